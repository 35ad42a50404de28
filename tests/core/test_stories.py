"""Findings that belong together."""

import unittest

from packaging.version import Version

from rabbet.core.drift.stories import stories
from rabbet.core.model.cause import ByHand, Installation
from rabbet.core.model.finding import Finding, Kind, Subject, Weight

# name, locked, installer, since, asked for, needed by → cause: what came along; what is guessed
CASES = {
    "one asked for, and all that it needs": (
        [
            ("swarmcast", None, "handy", 100, True, []),
            ("weighbridge", None, "handy", 101, False, ["swarmcast"]),
            ("smokerlog", None, "handy", 101, False, ["weighbridge"]),
            ("combframe", "2.1", "handy", 102, False, ["swarmcast"]),
            ("skepio", None, "handy", 9000, False, []),
        ],
        [("swarmcast", ["weighbridge", "smokerlog", "combframe"], [])],
    ),
    "moved at the same time, by whom is a guess": (
        [("skepio", None, "handy", 100, True, []), ("combframe", "2.1", "handy", 150, False, [])],
        [("skepio", [], ["combframe"])],
    ),
    "at the same time, and no installer is noted": (
        [("skepio", None, "", 100, False, []), ("combframe", "2.1", "", 101, False, [])],
        [],
    ),
    "at another time, or by another installer": (
        [
            ("skepio", None, "handy", 100, True, []),
            ("combframe", "2.1", "handy", 900, False, []),
            ("tallywax", "1.2", "other", 100, False, []),
        ],
        [],
    ),
    "two that need each other, and nobody asked for": (
        [("a", None, "", None, False, ["b"]), ("b", None, "", None, False, ["a"])],
        [],
    ),
}


class Stories(unittest.TestCase):
    """From the table."""

    def test_cases(self) -> None:
        for about, (rows, expected) in CASES.items():
            with self.subTest(about):
                findings = [
                    Finding(
                        kind=Kind.VERSION if locked else Kind.SURPLUS,
                        subject=Subject.library(name),
                        weight=Weight.DIFFERS,
                        locked=Version(locked) if locked else None,
                        installed=Version("1.0"),
                        cause=ByHand(
                            installation=Installation(installer=installer, since=since, requested=requested),
                            needed_by=tuple(needed_by),
                        ),
                    )
                    for name, locked, installer, since, requested, needed_by in rows
                ]
                found = [
                    (
                        story.cause.name,
                        [library.name for library in story.along],
                        [library.name for library in story.guessed],
                    )
                    for story in stories(findings)
                ]
                self.assertEqual(found, expected)
