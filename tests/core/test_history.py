"""A team over time: weeks, when locks reached machines, and what is new."""

import random
import unittest
from datetime import date, timedelta

from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.census.expected import unexpected
from rabbet.core.census.history import (
    Arrived,
    Day,
    Known,
    day_of,
    known_of,
    newest_then,
    news_of,
    reached,
    weeks_of,
)
from rabbet.core.census.matrix import MachineState, matrix_of
from rabbet.core.census.tags import fits, tag_in, tags_text, wanted_of
from rabbet.core.declaration.model import ExpectEntry
from rabbet.core.model.finding import About, Finding, Kind, Subject, Weight
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need

DAY = 86400


def finding(name: str, weight: Weight = Weight.BREAKS, kind: Kind = Kind.VERSION) -> Finding:
    """Something that a machine has otherwise."""
    return Finding(kind=kind, weight=weight, subject=Subject(about=About.LIBRARY, name=name))


def machine(label: str, recorded: int, *findings: Finding, trouble: str = "") -> MachineState:
    """A machine in a state."""
    return MachineState(label=label, recorded=recorded, findings=findings, trouble=trouble)


def slow_time(locks: list, records: list, number: int, share: float) -> int | None:
    """The first time at which so many machines have had that lock, or a newer one; asked second by second."""
    labels = {label for label, _, _ in records}
    fresh = {stamp for _, _, stamp in locks[: number + 1]}
    for second in sorted({when for _, when, _ in records}):
        have = {label for label, when, stamp in records if stamp in fresh and when <= second}
        if len(have) >= share * len(labels):
            return second
    return None


class History(unittest.TestCase):
    """All pure, with times made up."""

    def test_reached(self) -> None:
        """Of random histories, the same times as asked second by second."""
        for seed in range(300):
            chance = random.Random(seed)
            locks = [(f"commit{number}", 50 - number, f"stamp{number}") for number in range(4)]
            records = [
                (f"hive{chance.randrange(5)}", chance.randrange(60), f"stamp{chance.randrange(6)}")
                for _ in range(chance.randrange(25))
            ]
            for number, found in enumerate(reached(locks, records)):
                with self.subTest(seed=seed, number=number):
                    times = found.half, found.nine_tenths
                    wanted = tuple(slow_time(locks, records, number, share) for share in (0.5, 0.9))
                    self.assertEqual(times, wanted)

    def test_weeks(self) -> None:
        """The last known day of each week counts; weeks without any are left out."""
        first = date(2025, 12, 15)
        for seed in range(100):
            chance = random.Random(seed)
            days = [first + timedelta(days=chance.randrange(90)) for _ in range(chance.randrange(20))]
            since = first + timedelta(days=chance.randrange(60))
            found = weeks_of([Day(day=str(when), machines=4, as_locked=3) for when in days], since)
            by_week: dict[tuple[int, int], date] = {}
            for when in days:
                week = when.isocalendar()[:2]
                if when >= since:
                    by_week[week] = max(when, by_week.get(week, when))
            self.assertEqual([week.last.day for week in found], sorted(map(str, by_week.values())))
            self.assertTrue(all(week.share == 0.75 and week.begins <= week.last.day for week in found))
        self.assertEqual(weeks_of([Day(day="2026-05-01")], first)[0].share, 0.0)

    def test_day(self) -> None:
        """Each machine counts once, by its heaviest finding; rules only where they were judged."""
        states = [
            machine("a", 1),
            machine("b", 1, finding("x"), finding("y", Weight.DIFFERS)),
            machine("c", 1, finding("y", Weight.DIFFERS)),
            machine("d", 1, trouble="it can't be read"),
            machine("e", 1, finding("z", Weight.DIFFERS, Kind.RULE)),
        ]
        row = day_of(matrix_of(states), date(2026, 5, 1), "abc", silent=1, judged=True)
        counts = row.machines, row.as_locked, row.breaking, row.differing, row.unknown, row.silent
        self.assertEqual((counts, row.vulnerable), ((5, 1, 1, 2, 1, 1), 1))
        self.assertIsNone(day_of(matrix_of(states), date(2026, 5, 1), "abc").vulnerable)

    def test_unexpected(self) -> None:
        """What is expected beyond the lock: of revisions, which may not be known, and of libraries."""
        skepio = library_name("skepio")
        expect = ExpectEntry(behind=2, libraries=(Need(skepio, SpecifierSet(">=2")),))
        here = {skepio: Version("1.9")}
        for versions, behind, told in (
            ([], 2, {}),
            ([], 3, {"lock revision": None}),
            ([], None, {"lock revision": None}),
            (["2.0"], 0, {}),
            (["2.1rc1"], 0, {}),
            (["2.0rc1"], 0, {"skepio": "2.0rc1"}),
            (["1.9", "1.9"], 0, {"skepio": "1.9"}),
            (["2.0", "1.8"], 0, {"skepio": "1.8"}),
        ):
            with self.subTest(versions=versions, behind=behind):
                installed = [(skepio, Version(version)) for version in versions]
                installed.append((library_name("combframe"), Version("0.1")))
                found = list(unexpected(expect, installed, here, behind))
                self.assertEqual({one.name: one.installed and str(one.installed) for one in found}, told)
                self.assertEqual(list(unexpected(ExpectEntry(), installed, here, behind)), [])

    def test_tags(self) -> None:
        """Names and values within bounds; all wanted names must fit, in any of their values."""
        for text in (
            "",
            "team",
            "team=",
            "=x",
            "Team=x",
            "team=\x1b[2J",
            "team= x",
            f"team={'x' * 61}",
            "a=b\n",
        ):
            with self.subTest(text), self.assertRaises(ValueError):
                tag_in(text)
        tags = dict(map(tag_in, ("team=hive line 2", "role=ci", "owner=ada@apiary.example")))
        self.assertEqual(tags_text(tags), "owner=ada@apiary.example, role=ci, team=hive line 2")
        for wanted, answer in (
            ([], True),
            (["role=ci"], True),
            (["role=ci", "team=x"], False),
            (["role=dev", "role=ci"], True),
            (["site=x"], False),
        ):
            self.assertIs(fits(tags, wanted_of(wanted)), answer, wanted)

    def test_newest_then(self) -> None:
        """By a date, by what was told last also where records came late, and where they are gone."""
        a1, a2, late = Arrived("a", 10, 1), Arrived("a", 20, 3), Arrived("a", 5, 4)
        b1, b2 = Arrived("b", 10, 2), Arrived("b", 10, 5)
        for arrived, known, wanted in (
            ([a1, a2, b1], Known(15), {"a": 1, "b": 2}),
            ([a2, b1, a1], Known(20), {"a": 3, "b": 2}),
            ([a1, late], Known(15), {"a": 4}),
            ([a1, late], known_of([a1], 15), {"a": 1}),
            ([b1, b2], known_of([b1], 15), {"b": 2}),
            ([b1, b2], known_of([b2, b1], 15), {"b": 5}),
            ([b2], known_of([b2, b1], 15), {"b": 5}),
            ([a2, b1], known_of([a1], 15), {"a": 3}),
            ([a1], Known(15, {"gone": (10, 1)}), {}),
            ([], Known(15), {}),
        ):
            with self.subTest(arrived=arrived, known=known):
                self.assertEqual(newest_then(arrived, known), wanted)

    def test_news(self) -> None:
        """Each kind of change, and none where nothing changed."""
        at, since = 100 * DAY, 90 * DAY
        fine, broken = machine("hive", 80 * DAY), machine("hive", 95 * DAY, finding("x"))
        slight = machine("hive", 95 * DAY, finding("y", Weight.DIFFERS))
        unread = machine("hive", 95 * DAY, trouble="it can't be read")
        silent = machine("hive", 65 * DAY)
        for then, now, told in (
            ([fine], [fine], {}),
            ([fine], [broken], {"broke": ("x",), "libraries": ("x",)}),
            ([fine], [slight], {"libraries": ("y",)}),
            ([broken], [fine], {"mended": ("x",)}),
            ([broken], [broken], {}),
            ([fine], [unread], {"broke": ("it can't be read",)}),
            ([], [fine], {"added": ()}),
            ([], [broken], {"added": ("x",), "broke": ("x",)}),
            ([silent], [silent], {"silent": ()}),
            ([machine("hive", 50 * DAY)], [machine("hive", 50 * DAY)], {}),
        ):
            with self.subTest(told=told):
                by_label = ({state.label: state for state in states} for states in (then, now))
                found = news_of(*by_label, since=since, at=at, silent_after=30 * DAY)
                changed = {
                    name: machines[0].about
                    for name in ("broke", "mended", "silent", "added")
                    if (machines := getattr(found, name))
                }
                if found.libraries:
                    changed["libraries"] = found.libraries
                self.assertEqual(changed, told)
                self.assertEqual(found.is_empty, not told)
