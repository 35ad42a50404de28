"""Keeping what was installed by hand: what is declared, and what preferred."""

import unittest

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.model import Declared, Section
from rabbet.core.drift.keep import keep, loosened, lower_bound
from rabbet.core.drift.stories import stories
from rabbet.core.model.cause import ByHand, Installation
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from tests.support import chance
from tests.support.catalogue import requirement

# what is declared, what is installed → what is declared then
LOOSENED = {
    ("combframe>=2,<3", "3.1"): "combframe>=2",
    ("combframe>=2,<3", "1.5.2"): "combframe>=1.5,<3",
    ("combframe==2.1", "2.2"): "combframe>=2.2",
    ("combframe~=2.1", "3.0.1"): "combframe>=3.0",
    ("combframe[fast]!=2.2,>1; os_name == 'nt'", "2.2"): 'combframe[fast]>1; os_name == "nt"',
    ("combframe<2", "2.0"): "combframe",
    ("combframe<2", "3.0rc1"): "combframe",
    ("combframe==1.0", "1!2.0.3+x"): "combframe>=1!2.0.3",
    ("combframe>=2,<3", "2.5"): "combframe>=2,<3",
}
OPERATORS = [">=", "<", "!=", "==", "~=", ">", "<="]
CHECKS = Section("group", "checks")


def by_hand(name: str, version: str, locked: str | None = None, *needed_by: str) -> Finding:
    """Something that somebody installed, asked for by name unless something needs it."""
    return Finding(
        kind=Kind.VERSION if locked else Kind.SURPLUS,
        subject=Subject.library(name),
        weight=Weight.DIFFERS,
        locked=Version(locked) if locked else None,
        installed=Version(version),
        cause=ByHand(
            installation=Installation(installer="handy", since=1.0, requested=not needed_by),
            needed_by=needed_by,
        ),
    )


FINDINGS = [
    by_hand("skepio", "0.4.1"),
    by_hand("hivewire", "2.1", None, "skepio"),
    by_hand("tallywax", "1.1", "1.2", "hivewire"),
    by_hand("combframe", "3.1", "2.1"),
]
DECLARED = [
    Declared(need=requirement("combframe>=2,<3")),
    Declared(need=requirement("combframe<3"), section=CHECKS),
]


class Keep(unittest.TestCase):
    """What follows from what is to be kept."""

    def test_loosened(self) -> None:
        for (declared, version), expected in LOOSENED.items():
            with self.subTest(declared, version=version):
                need = loosened(requirement(declared), Version(version))
                self.assertEqual(str(need).replace("'", '"'), str(requirement(expected)))

    def test_loosened_admits(self) -> None:
        """Whatever is declared and installed: then it is admitted, and so is all that was, above it."""
        dice = chance.dice(16)
        for _ in range(500):
            bounds = ",".join(
                f"{dice.choice(OPERATORS)}{dice.randint(0, 4)}.{dice.randint(0, 4)}"
                for _ in range(dice.randint(0, 3))
            )
            version = Version(f"{dice.randint(0, 4)}.{dice.randint(0, 4)}.{dice.randint(0, 2)}")
            need = requirement(f"combframe{bounds}")
            after = loosened(need, version).specifier
            self.assertIn(version, after, bounds)
            for other in ("0.3", "2.2", "3.4", "4.9"):
                if need.specifier.contains(other) and Version(other) >= version:
                    self.assertIn(other, after, (bounds, version))

    def test_lower_bound(self) -> None:
        for version, bound in (
            ("2.1.3", ">=2.1"),
            ("2", ">=2"),
            ("2.0rc1", ">=2.0rc1"),
            ("2.1.post1", ">=2.1"),
        ):
            self.assertEqual(lower_bound(Version(version)), SpecifierSet(bound))

    def test_keep(self) -> None:
        """What nothing requires is declared, what came along is preferred, bounds that are in the way go."""
        for names, edits, preferred in (
            (["skepio"], ["skepio>=0.4"], ["hivewire 2.1", "skepio 0.4.1", "tallywax 1.1"]),
            (["skepio", "hivewire"], ["skepio>=0.4"], ["hivewire 2.1", "skepio 0.4.1", "tallywax 1.1"]),
            (["hivewire"], ["hivewire>=2.1"], ["hivewire 2.1"]),
            (["tallywax"], [], ["tallywax 1.1"]),
            (["combframe"], ["combframe>=2", "combframe"], ["combframe 3.1"]),
        ):
            with self.subTest(names):
                kept = keep(names, FINDINGS, stories(FINDINGS), DECLARED)
                self.assertEqual([edit.value for edit in kept.edits], edits)
                self.assertEqual(
                    sorted(f"{name} {version}" for name, version in kept.preferred.items()), preferred
                )
        kept = keep(["skepio"], FINDINGS, [], DECLARED, CHECKS)
        self.assertEqual([edit.section for edit in kept.edits], [CHECKS])
