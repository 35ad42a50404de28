"""Why there is no solution, and what would help: golden cases, and the truth of what is suggested."""

import tomllib
import unittest
from pathlib import Path

from packaging.requirements import Requirement

from rabbet.core.model.declaration import Declared
from rabbet.core.model.release import SetAside
from rabbet.core.model.solution import Solution
from rabbet.core.solve.prose import explained
from rabbet.core.solve.solver import Refutation, solve
from rabbet.core.solve.suggest import suggestions
from rabbet.core.targets import named_target
from rabbet.tasks.advice import command_for
from tests.core.test_solver import random_instance
from tests.support.catalogue import TARGET, DictProvider, declared

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "explanations.toml").read_text())
ROUNDS = 150


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
                tried = suggestions(answer, wanted, provider, TARGET, ())
                self.assertEqual([command_for(one) for one in tried], case["suggested"])

    def test_another_runtime(self) -> None:
        """Where releases are out of reach because of the runtime, one that helps is suggested, if it does."""
        old, new = named_target("linux-x86_64", "3.11", {}), named_target("linux-x86_64", "3.12", {})
        releases = {"combframe": {"2.0": []}, "nectarplot": {"1.0": ["combframe>=2"]}}
        aside = (SetAside(version="2.0", reason="needs Python >=3.12"),)
        here, there = DictProvider({"nectarplot": releases["nectarplot"]}), DictProvider(releases)
        here.know("combframe", aside)
        wanted = declared("nectarplot", "combframe")
        answer = solve(here, old, wanted)
        assert isinstance(answer, Refutation)
        told = " ".join(explained(answer, "hivescale").sentences)
        self.assertIn("no release of it can be used here (2.0: needs Python >=3.12)", told)
        found = suggestions(answer, wanted, here, old, [(old, here), (new, there)])
        self.assertIn("rabbet declare --runtime 'python==3.12.*'", [command_for(one) for one in found])
        self.assertEqual(suggestions(answer, declared("combframe"), here, old, [(old, here)])[0].runtime, "")

    def test_suggestions_are_true(self) -> None:
        """Whatever is suggested for a random instance without solution gives one."""
        seen = 0
        for seed in range(ROUNDS):
            releases, texts = random_instance(seed)
            wanted = declared(*texts)
            answer = solve(DictProvider(releases), TARGET, wanted)
            if isinstance(answer, Solution):
                continue
            for one in suggestions(answer, wanted, DictProvider(releases), TARGET, ()):
                with self.subTest(seed=seed, suggested=command_for(one)):
                    seen += 1
                    after: dict[Declared, Requirement | None] = {c.declared: c.after for c in one.changes}
                    changed = [after.get(entry, entry.requirement) for entry in wanted]
                    kept = [Declared(requirement=entry) for entry in changed if entry is not None]
                    solution = solve(DictProvider(releases), TARGET, kept)
                    assert isinstance(solution, Solution)
                    chosen = {name: solution.chosen[name].version for name in one.chosen}
                    self.assertEqual(chosen, dict(one.chosen))
        self.assertGreater(seen, 50)
