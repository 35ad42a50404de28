"""The census: machines in the same state stand together, and nobody is lost."""

import unittest
from collections import Counter

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.census.matrix import MachineState, matrix_of
from rabbet.core.declaration.model import DeclaredRuntime
from rabbet.core.drift.checks.runtimes import runtime_findings
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.lock import LockedRuntime
from tests.support import chance

# label, how many revisions behind, what differs: library, version (! breaks, ~ differs)
TEAM = [
    ("orchard-laptop", 0, []),
    ("ci-runner", 0, []),
    ("market-stall", 0, ["combframe 1.5!", "swarmcast 1.1~"]),
    ("extraction-room", 3, ["combframe 2.0~"]),
    ("loft", 3, ["combframe 2.0~"]),
]


def finding(text: str) -> Finding:
    """Such as `combframe 1.5!`."""
    name, _, version = text[:-1].partition(" ")
    weight = Weight.BREAKS if text.endswith("!") else Weight.DIFFERS
    subject = Subject.library(name)
    return Finding(kind=Kind.VERSION, subject=subject, weight=weight, installed=Version(version))


def state(label: str, behind: int | None, found: list[str]) -> MachineState:
    """One machine."""
    return MachineState(label=label, recorded=0, findings=tuple(map(finding, found)), behind=behind)


# locked, declared, told, complete, findings: language, installed, weight
RUNTIMES = [
    ("node 20.1", "node>=20", {"node": "20.1"}, True, []),
    ("node 20.1", "node>=20", {"node": "22.0"}, True, ["node 22.0 note"]),
    ("node 20.1", "node>=20", {"node": "18.0"}, True, ["node 18.0 differs"]),
    ("node 20.1", "node>=20", {}, True, ["node None breaks"]),
    ("node 20.1", "node>=20", {}, False, []),
    ("node 20.1", "node>=20", {"node": "18.0", "java": "17"}, False, ["node 18.0 differs"]),
    ("node 20.1", "java>=17", {"node": "22.0"}, False, ["node 22.0 note"]),
    ("python 3.12.1", "node>=20", {"python": "3.11.2"}, True, []),
]


class Runtimes(unittest.TestCase):
    """The runtimes of other languages on a teammate's machine."""

    def test_table(self) -> None:
        for locked, declared, told, complete, expected in RUNTIMES:
            language, version = locked.split()
            asked, _, least = declared.partition(">=")
            found = runtime_findings(
                [LockedRuntime(language=language, version=Version(version))],
                [DeclaredRuntime(language=asked, versions=SpecifierSet(f">={least}"))],
                told,
                complete=complete,
            )
            with self.subTest(told=told, declared=declared, complete=complete):
                self.assertEqual(
                    [f"{finding.name} {finding.installed} {finding.weight}" for finding in found], expected
                )


class Census(unittest.TestCase):
    """What becomes of the machines."""

    def test_team(self) -> None:
        matrix = matrix_of(
            [*(state(*row) for row in TEAM), MachineState(label="old", recorded=0, trouble="too old")]
        )
        self.assertEqual(
            [(group.name, group.labels) for group in matrix.groups],
            [
                ("A", ("ci-runner", "orchard-laptop")),
                ("B", ("extraction-room", "loft")),
                ("C", ("market-stall",)),
                ("D", ("old",)),
            ],
        )
        self.assertEqual(
            [(row.name, row.breaking, row.differing) for row in matrix.rows],
            [("combframe", 1, 2), ("swarmcast", 0, 1)],
        )
        self.assertEqual((matrix.machines, matrix.unknown), (6, 1))
        self.assertEqual((matrix.weighing(Weight.BREAKS), matrix.weighing(Weight.DIFFERS)), (1, 2))

    def test_one_name_for_two(self) -> None:
        """A library and a language of the same name have a row each."""
        about = {"kind": Kind.SURPLUS, "weight": Weight.DIFFERS}
        found = [Finding(subject=subject("node"), **about) for subject in (Subject.library, Subject.runtime)]
        rows = matrix_of([MachineState(label="loft", recorded=0, findings=tuple(found))]).rows
        self.assertEqual([row.subject for row in rows], [Subject.library("node"), Subject.runtime("node")])

    def test_everybody_is_there_once(self) -> None:
        """Whatever differs: each machine is in one group, with its like, and rows count machines."""
        dice, known = chance.dice(170), ["combframe 1.5!", "combframe 1.4~", "skepio 0.1~", "tallywax 1.0!"]
        for _ in range(50):
            states = [
                state(f"hive{number}", dice.choice([None, 0, 1]), dice.sample(known, dice.randint(0, 2)))
                for number in range(dice.randint(1, 60))
            ]
            matrix = matrix_of(dice.sample(states, len(states)))
            labels = Counter(label for group in matrix.groups for label in group.labels)
            self.assertEqual(labels, Counter(state.label for state in states))
            self.assertEqual(len({group.name for group in matrix.groups}), len(matrix.groups))
            self.assertEqual(matrix, matrix_of(states))
            for row in matrix.rows:
                weights = [
                    [finding.weight for finding in each.findings if finding.name == row.name]
                    for each in states
                ]
                self.assertEqual(row.breaking, sum(Weight.BREAKS in some for some in weights))
                self.assertEqual(row.breaking + row.differing, sum(bool(some) for some in weights))
