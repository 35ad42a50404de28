"""Languages other than Python: what their runtimes tell, and which of them go together."""

import os
import tempfile
import time
import tomllib
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.model import DeclaredRuntime
from rabbet.core.model.runtime import RuntimeOffer
from rabbet.core.solve.runtimes import choose_runtimes
from rabbet.core.solve.solver import Refutation
from rabbet.errors import NotUnderstood
from rabbet.formats.project.pyproject import read_declaration
from rabbet.python.choosing.targets import named_target
from rabbet.work.ask import Bounds, NoAnswer, ask
from rabbet.workspace.runtimes.languages import known_languages
from tests.support import PATIENCE

DATA = tomllib.loads((Path(__file__).parent.parent / "data" / "languages.toml").read_text())
VERSIONS = ["1.0", "2.0", "3.0"]


class Table(unittest.TestCase):
    """The languages that Rabbet knows, and those that a declaration tells of."""

    def test_answers(self) -> None:
        """What real runtimes answer tells version and distributor; there is an answer for each language."""
        languages = known_languages()
        self.assertEqual({*languages}, {case["language"] for case in DATA["answer"]})
        for case in DATA["answer"]:
            with self.subTest(case["text"]):
                language = languages[case["language"]]
                self.assertEqual(str(language.version_in(case["text"])), case["version"])
                self.assertEqual(language.distributor_in(case["text"]), case.get("distributor", ""))

    def test_declared(self) -> None:
        """A clone can't make Rabbet run anything, nor set a variable."""
        for case in DATA["declared"]:
            name = case.get("name", "waggle")
            text = f'[project]\nname = "x"\n[tool.rabbet.languages.{name}]\n{case["table"]}\n'
            with self.subTest(case["table"]):
                if not case.get("wrong"):
                    self.assertIn("waggle", read_declaration(text, folder_name="x").languages)
                    continue
                with self.assertRaises(NotUnderstood) as raised:
                    read_declaration(text, folder_name="x")
                self.assertIn(case["wrong"], "\n".join(raised.exception.because))


@st.composite
def worlds(draw: st.DrawFn) -> tuple[list[DeclaredRuntime], list[RuntimeOffer]]:
    """Some declared languages, and offers of which some need versions of others."""
    names = ["waggle", "hum", "drone"]
    bounds = st.sampled_from(["", ">=2", "<3", "==2.0", ">=3"]).map(SpecifierSet)
    offers = [
        RuntimeOffer(
            language=name,
            version=Version(version),
            where=f"{name} {version}",
            needs=draw(st.dictionaries(st.sampled_from(names), bounds, max_size=2)),
        )
        for name in names
        for version in draw(st.lists(st.sampled_from(VERSIONS), unique=True))
    ]
    wanted = draw(st.lists(st.sampled_from(names), unique=True, min_size=1))
    return [DeclaredRuntime(language=name, versions=draw(bounds)) for name in wanted], offers


def goes_together(chosen: dict[str, RuntimeOffer], declared: list[DeclaredRuntime]) -> bool:
    """Whether everything that is declared and needed is there, in versions that are allowed."""
    needs = [(runtime.language, runtime.versions) for runtime in declared]
    needs += [need for offer in chosen.values() for need in offer.needs.items()]
    return all(name in chosen and chosen[name].version in versions for name, versions in needs)


class Together(unittest.TestCase):
    """Choosing runtimes that need each other."""

    @given(worlds())
    def test_as_exhaustive_search(self, world: tuple[list[DeclaredRuntime], list[RuntimeOffer]]) -> None:
        """There is a choice exactly where trying all of them finds one, and it goes together."""
        declared, offers = world
        answer = choose_runtimes(declared, offers, named_target("linux-x86_64", "3.12", {}), kept={})
        choices: list[dict[str, RuntimeOffer]] = [{}]
        for name in ("waggle", "hum", "drone"):
            own = [offer for offer in offers if offer.language == name]
            choices += [{**choice, name: offer} for choice in choices for offer in own]
        possible = any(goes_together(choice, declared) for choice in choices)
        self.assertEqual(not isinstance(answer, Refutation), possible)
        if not isinstance(answer, Refutation):
            self.assertTrue(goes_together(dict(answer), declared))

    def test_kept_and_raised(self) -> None:
        """A locked version stays until it is raised; where a distributor is named, its offers alone count."""
        offers = [
            RuntimeOffer(language="waggle", version=Version(version), where=version, distributor=distributor)
            for version, distributor in (("1.0", "apiary"), ("2.0", "apiary"), ("3.0", "meadow"))
        ]
        target = named_target("linux-x86_64", "3.12", {})
        for kept, raised, distributor, expected in (
            ("", (), "", "3.0"),
            ("1.0", (), "", "1.0"),
            ("1.0", ("waggle",), "", "3.0"),
            ("1.0", ("waggle",), "apiary", "2.0"),
            ("3.0", (), "apiary", "2.0"),
        ):
            with self.subTest(kept=kept, raised=raised, distributor=distributor):
                declared = DeclaredRuntime(
                    language="waggle", versions=SpecifierSet(), distributor=distributor
                )
                before = {"waggle": Version(kept)} if kept else {}
                answer = choose_runtimes([declared], offers, target, kept=before, raised=raised)
                self.assertNotIsInstance(answer, Refutation)
                self.assertEqual(answer["waggle"].where, expected)  # type: ignore[index]


class Asking(unittest.TestCase):
    """Programs that do something else than answer."""

    def test_table(self) -> None:
        holder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for script, expected in (
            ("echo waggle 1.0", "waggle 1.0\n"),
            ("echo waggle 1.0 >&2; exit 3", "waggle 1.0\n"),
            ("sleep 3000 & echo waggle 1.0", "waggle 1.0\n"),
            ("echo waggle; exec sleep 3000", NoAnswer("it gave no answer in 1 seconds")),
            ("exec yes", NoAnswer("it prints without end")),
            ("exec >&- 2>&-; sleep 3000", NoAnswer("it gave no answer in 1 seconds")),
        ):
            program = holder / "waggle"
            program.write_text(f"#!/bin/sh\n{script}\n")
            program.chmod(0o755)
            begun = time.monotonic()
            with self.subTest(script):
                if isinstance(expected, str):
                    answer = ask([str(program)], os.environ, bounds=Bounds(seconds=PATIENCE))
                    self.assertEqual((answer.out + answer.err).decode(), expected)
                else:
                    with self.assertRaisesRegex(NoAnswer, str(expected)):
                        ask([str(program)], os.environ, bounds=Bounds(seconds=1))
                # No child's 3000 seconds were waited for.
                self.assertLess(time.monotonic() - begun, 2 * PATIENCE)

    def test_does_not_start(self) -> None:
        holder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        with self.assertRaisesRegex(NoAnswer, "it does not start"):
            ask([str(holder / "gone")], os.environ)
