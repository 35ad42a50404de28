"""Why there is no solution, and what would help: golden cases, and the truth of what is suggested."""

import json
import random
import tomllib
import unittest
from pathlib import Path

from rabbet.core.declaration.model import Declared
from rabbet.core.model.release import Rejected
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.explain.prose import explained
from rabbet.core.solve.explain.suggest import Question, Suggestion, Suggestions, suggestions
from rabbet.core.solve.solver import Refutation, solve
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply
from rabbet.python.choosing.targets import named_target
from rabbet.resolving.suggested_commands import command_for, edits_for, helps
from tests.core.test_solver import random_instance
from tests.support import chance
from tests.support.catalogue import TARGET, DictProvider, declared

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "explanations.toml").read_text())
ROUNDS = 150


def pasted(tried: Suggestions, wanted: list[Declared]) -> list[str]:
    """The commands, each behind what it gives."""
    lines = []
    for suggestion in tried.found:
        gives = ", ".join(f"{name} {', '.join(map(str, all_))}" for name, all_ in suggestion.chosen.items())
        lines.append((f"{gives}: " if gives else "") + command_for(edits_for(suggestion, "", wanted)))
    return lines


class Explanations(unittest.TestCase):
    """Read as prose, in `data/explanations.toml`."""

    def test_golden(self) -> None:
        for case in TABLE["case"]:
            with self.subTest(case["title"]):
                wanted, provider = declared(*case["declared"]), DictProvider(case["releases"])
                answer = solve(provider, TARGET, wanted)
                assert isinstance(answer, Refutation)
                explanation = explained(answer, "hivescale")
                self.assertEqual("\n".join(explanation.sentences), case["told"].strip())
                self.assertEqual(explanation.clash, case["clash"])
                tried = suggestions(answer, Question(declared=wanted, targets=[(TARGET, provider)]))
                self.assertEqual(pasted(tried, wanted), case["suggested"])

    def test_another_runtime(self) -> None:
        """Where releases are out of reach because of the runtime, one that helps is suggested, if it does."""
        old, new = named_target("linux-x86_64", "3.11", {}), named_target("linux-x86_64", "3.12", {})
        releases = {"combframe": {"2.0": []}, "nectarplot": {"1.0": ["combframe>=2"]}}
        rejected = (Rejected(version="2.0", reason="needs Python >=3.12"),)
        here, there = DictProvider({"nectarplot": releases["nectarplot"]}), DictProvider(releases)
        here.know("combframe", rejected)
        wanted = declared("nectarplot", "combframe")
        answer = solve(here, old, wanted)
        assert isinstance(answer, Refutation)
        told = " ".join(explained(answer, "hivescale").sentences)
        self.assertIn("no release of it can be used here (2.0: needs Python >=3.12)", told)
        others = [
            (Suggestion(runtime=f"=={target.minor}.*"), [(target, provider)])
            for target, provider in ((old, here), (new, there))
        ]
        question = Question(declared=wanted, targets=[(old, here)], others=others)
        self.assertIn(
            "rabbet declare --runtime 'python==3.12.*'", pasted(suggestions(answer, question), wanted)
        )
        none = Question(declared=wanted, targets=[(old, here)], others=others[:1])
        self.assertEqual(
            [suggestion.runtime for suggestion in suggestions(answer, none).found if suggestion.runtime], []
        )

    def test_suggestions_are_true(self) -> None:
        """Whatever is suggested for a random text without solution gives one when it is carried out there."""
        seen = 0
        for seed in chance.seeds(ROUNDS):
            releases, texts = random_instance(seed)
            provider, before = DictProvider(releases), declaration_text(texts, random.Random(seed))
            asked = read_declaration(before, folder_name="hivescale").asked()
            answer = solve(provider, TARGET, asked)
            if isinstance(answer, Solution):
                continue
            question = Question(declared=asked, targets=[(TARGET, provider)])
            for suggestion in suggestions(answer, question).found:
                edits = edits_for(suggestion, before, asked)
                if not helps(edits, before, [(TARGET, provider)]):
                    continue
                with self.subTest(seed=seed, before=before, suggested=command_for(edits)):
                    seen += 1
                    after = read_declaration(apply(before, edits)[0], folder_name="hivescale")
                    solution = solve(provider, TARGET, after.asked())
                    assert isinstance(solution, Solution)
                    chosen = {name: (solution.chosen[name].version,) for name in suggestion.chosen}
                    self.assertEqual(chosen, dict(suggestion.chosen))
        self.assertGreater(seen, 40)


def declaration_text(texts: list[str], dice: random.Random) -> str:
    """Requirements of the project, of a group that another includes, and of an extra that it names."""
    places: dict[str, list[str]] = {"own": [], "group": [], "extra": []}
    for text in texts:
        places[dice.choice(list(places))].append(text)
    return f"""
[project]
name = "hivescale"
dependencies = {json.dumps([*places["own"], "hivescale[plots]"])}
[project.optional-dependencies]
plots = {json.dumps(places["extra"])}
[dependency-groups]
checks = {json.dumps(places["group"])}
all = [{{ include-group = "checks" }}]
"""
