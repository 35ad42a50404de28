"""Rules by the tables of the standards, by slow oracles, and in the solver by exhaustive search."""

import itertools
import math
import unittest
from datetime import UTC, date, datetime

from packaging.version import Version

from rabbet.core.needs.names import library_name
from rabbet.core.rules.advisory import Advisory, AffectedRange, Bound, affects, joined, mended_since
from rabbet.core.rules.breach import Rule, refusing
from rabbet.core.rules.judge import Licence, Origin, ReleaseFacts, breaches_of
from rabbet.core.rules.licences import canonical, is_allowed
from rabbet.core.rules.model import Accepted, AgeRule, LicenceRule, OriginRule, RuleSet, shared_rules
from rabbet.core.rules.severity import score_of
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.explain.prose import explained
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import Refutation, solve
from rabbet.python.choosing.candidates import narrowed
from tests.core.test_solver import _all_answers, _single_raise, random_instance
from tests.support import chance
from tests.support.catalogue import TARGET, DictProvider, declared

NOW = datetime(2026, 6, 1, tzinfo=UTC)
SEVERE, MILD = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", "CVSS:3.1/AV:L/AC:H/PR:L/UI:R/S:U/C:L/I:N/A:N"
# Events of a range, versions that it affects, and versions that it does not: the schema's own examples.
RANGES = (
    ("introduced=0", "0 0.dev0 1.0 99!1", ""),
    ("introduced=0 fixed=1.0", "0.9 1.0rc1 1.0.dev3", "1.0 1.0.post1 2.0 1.0+local"),
    ("introduced=1.0 fixed=1.2 introduced=2.0 fixed=2.5", "1.0 1.1 2.0 2.4", "0.9 1.2 1.9 2.5 3"),
    ("fixed=1.2 introduced=2.0 introduced=1.0 fixed=2.5", "1.0 1.1 2.0 2.4", "0.9 1.2 1.9 2.5 3"),
    ("introduced=1.0 last_affected=1.5", "1.0 1.5 1.5+local", "0.9 1.5.1 1.6"),
    ("introduced=0 limit=2.0", "1.0 1.9", "2.0 3.0"),
    ("introduced=0 limit=1.0 limit=3.0", "0.5 2.5", "3.0"),
    ("fixed=1.0", "", "0.5 1.0 2.0"),
    ("introduced=1.0 fixed=1.0 introduced=1.0", "1.0 2.0", "0.9"),
)
# Semantic Versioning 2.0.0, section 11.
SEMVER = "1.0.0-alpha 1.0.0-alpha.1 1.0.0-alpha.beta 1.0.0-beta 1.0.0-beta.2 1.0.0-beta.11 1.0.0-rc.1 1.0.0"
# The published scores of the standards' own examples.
SCORES = (
    ("3.1/AV:N/AC:L/PR:L/UI:N/S:C/C:L/I:L/A:N", 6.4),
    ("3.1/AV:N/AC:H/PR:N/UI:R/S:U/C:L/I:N/A:N", 3.1),
    ("3.1/AV:N/AC:L/PR:L/UI:N/S:C/C:H/I:H/A:H", 9.9),
    ("3.1/AV:L/AC:L/PR:H/UI:N/S:U/C:L/I:L/A:L", 4.2),
    ("3.1/AV:N/AC:L/PR:L/UI:N/S:U/C:H/I:H/A:H", 8.8),
    ("3.1/AV:L/AC:L/PR:N/UI:R/S:U/C:H/I:H/A:H", 7.8),
    ("3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N", 7.5),
    ("3.1/AV:N/AC:H/PR:N/UI:N/S:C/C:N/I:H/A:N", 6.8),
    ("3.1/AV:P/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H", 6.8),
    ("3.1/AV:N/AC:L/PR:N/UI:N/S:C/C:L/I:N/A:N", 5.8),
    ("3.1/AV:A/AC:L/PR:N/UI:N/S:C/C:H/I:N/A:H", 9.3),
    ("3.1/AV:P/AC:L/PR:N/UI:N/S:U/C:N/I:H/A:N", 4.6),
    ("3.1/AV:N/AC:H/PR:N/UI:N/S:U/C:H/I:H/A:N", 7.4),
    ("3.0/AV:N/AC:L/PR:N/UI:R/S:C/C:H/I:H/A:H", 9.6),
    ("3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:N/I:N/A:N", 0.0),
    ("4.0/AV:L/AC:L/AT:P/PR:L/UI:N/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", 7.3),
    ("4.0/AV:N/AC:L/AT:P/PR:N/UI:P/VC:H/VI:H/VA:H/SC:N/SI:N/SA:N", 7.7),
    ("4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:L/VA:L/SC:N/SI:N/SA:N", 8.8),
    ("4.0/AV:L/AC:L/AT:N/PR:L/UI:N/VC:H/VI:H/VA:H/SC:H/SI:H/SA:H", 9.3),
    ("4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:H/VI:H/VA:H/SC:H/SI:H/SA:H", 10.0),
    ("4.0/AV:N/AC:L/AT:N/PR:N/UI:N/VC:N/VI:N/VA:N/SC:N/SI:N/SA:N", 0.0),
)
# An expression, what is allowed, and whether that meets it.
LICENCES = (
    ("MIT", "MIT", True),
    ("mit", "MIT", True),
    ("MIT", "BSD-3-Clause", False),
    ("MIT OR GPL-3.0-only", "MIT", True),
    ("MIT AND GPL-3.0-only", "MIT", False),
    ("(MIT AND BSD-3-Clause) OR Zlib", "MIT,BSD-3-Clause", True),
    ("MIT AND (BSD-3-Clause OR Zlib)", "MIT,Zlib", True),
    ("MIT AND BSD-3-Clause OR Zlib", "Zlib", True),
    ("GPL-2.0-or-later", "GPL-2.0-only", True),
    ("GPL-2.0+", "GPL-2.0-or-later", True),
    ("GPL-2.0", "GPL-2.0-only", True),
    ("GPL-2.0-only", "GPL-2.0-or-later", False),
    ("Apache-2.0 WITH LLVM-exception", "Apache-2.0", True),
    ("Apache-2.0", "Apache-2.0 WITH LLVM-exception", False),
    ("Zlib AND MIT", "MIT AND Zlib", True),
    ("Zlib", "MIT AND Zlib", False),
    ("LicenseRef-ours", "LicenseRef-ours", True),
    ("LicenseRef-ours", "", False),
)


def advisory(events: str, *, semver: bool = False, name: str = "HIVE-1", **more: object) -> Advisory:
    """One with a single range, whose events are written as `kind=version`."""
    bounds = tuple(Bound(*event.split("=")) for event in events.split())
    return Advisory(id=name, ranges=(AffectedRange(semver, bounds),), **more)


def facts(**more: object) -> ReleaseFacts:
    """Of tallywax 1.1."""
    return ReleaseFacts(name=library_name("tallywax"), version=Version("1.1"), **more)


class Advisories(unittest.TestCase):
    """Which versions are affected, which records are about the same, and which version mends."""

    def test_ranges(self) -> None:
        for events, inside, outside in RANGES:
            for text, expected in [(v, True) for v in inside.split()] + [(v, False) for v in outside.split()]:
                with self.subTest(events=events, version=text):
                    self.assertIs(affects(advisory(events), Version(text)), expected)

    def test_random_ranges(self) -> None:
        """By the schema's algorithm, taken literally for whole numbers, in any order of events."""
        for seed in chance.seeds(400):
            dice = chance.dice(seed)
            events = [
                (dice.choice(("introduced", "fixed", "last_affected")), dice.randint(0, 6)) for _ in range(4)
            ]
            events = [event for event in events if [number for _, number in events].count(event[1]) == 1]
            told = advisory(" ".join(f"{kind}={number}" for kind, number in events))
            for version in range(8):
                vulnerable = False
                for kind, number in sorted(events, key=lambda event: event[1]):
                    if kind == "introduced" and version >= number:
                        vulnerable = True
                    elif (kind == "fixed" and version >= number) or (kind != "fixed" and version > number):
                        vulnerable = vulnerable and kind == "introduced"
                for semver in (False, True):
                    text = [
                        f"{bound.kind}={bound.version}{'.0.0' if semver and bound.version != '0' else ''}"
                        for bound in told.ranges[0].bounds
                    ]
                    found = affects(advisory(" ".join(text), semver=semver), Version(f"{version}.0.0"))
                    self.assertEqual(found, vulnerable, (seed, events, version, semver))

    def test_semantic_versions(self) -> None:
        ordered = SEMVER.split()
        for number, bound in enumerate(ordered):
            told = advisory(f"introduced=0 fixed={bound}", semver=True)
            self.assertEqual(affects(told, Version("1.0.0")), number > 7)
            self.assertEqual(affects(told, Version("1.0.0rc1")), number > 6, bound)
            self.assertEqual(affects(told, Version("1.0b2")), number > 4, bound)
        for wrong in ("1.0", "1.0.0.0", "one", "01.0.0", "1.0.0-" + "9" * 5000 + "!"):
            with self.assertRaises(ValueError):
                affects(advisory(f"introduced={wrong}", semver=True), Version("1"))

    def test_listed(self) -> None:
        """Versions that are listed count however they are written; what is no version is passed over."""
        told = Advisory(id="X", versions=("1.0", "v2.0", "latest", "3.0.0+hive"))
        affected = [text for text in ["1", "1.0.0", "2", "3", "3.0+x", "4"] if affects(told, Version(text))]
        self.assertEqual(affected, ["1", "1.0.0", "2", "3", "3.0+x"])

    def test_joined(self) -> None:
        """Against the closure by repeated looking; circles and names that nobody has among them."""
        for seed in chance.seeds(200):
            dice = chance.dice(seed)
            names = [f"H-{number}" for number in range(7)]
            known = [
                Advisory(id=name, aliases=tuple(dice.sample([*names, "gone"], dice.randint(0, 2))))
                for name in dice.sample(names, 5)
            ]
            groups = [{one.id} for one in known]
            ids = {one.id: {*one.ids} for one in known}
            for one, other in itertools.product(groups * 5, groups * 5):
                if one is not other and any(ids[a] & ids[b] for a in one for b in other):
                    one.update(other)
                    other.clear()
            expected = sorted(sorted(group) for group in groups if group)
            self.assertEqual(sorted([one.id for one in group] for group in joined(known)), expected, seed)

    def test_mended(self) -> None:
        """The lowest fix that no record of the group contradicts."""
        first, second = (
            advisory("introduced=1 fixed=1.2"),
            advisory("introduced=1.2 fixed=1.4", name="HIVE-2"),
        )
        self.assertEqual(mended_since([first], Version("1.1")), Version("1.2"))
        self.assertEqual(mended_since([first, second], Version("1.1")), Version("1.4"))
        self.assertIsNone(mended_since([advisory("introduced=0 last_affected=2")], Version("1")))


class Severity(unittest.TestCase):
    """Scores of CVSS vectors."""

    def test_published(self) -> None:
        for vector, score in SCORES:
            with self.subTest(vector):
                self.assertEqual(score_of([f"CVSS:{vector}"]), score)

    def test_formula(self) -> None:
        """All base vectors of version 3.1 that dice throw, against its formula (section 7.1)."""
        weights = {
            "AV": {"N": 0.85, "A": 0.62, "L": 0.55, "P": 0.2},
            "AC": {"L": 0.77, "H": 0.44},
            "UI": {"N": 0.85, "R": 0.62},
            **{metric: {"N": 0, "L": 0.22, "H": 0.56} for metric in "CIA"},
        }
        rights = {"U": {"N": 0.85, "L": 0.62, "H": 0.27}, "C": {"N": 0.85, "L": 0.68, "H": 0.5}}
        for seed in chance.seeds(300):
            dice = chance.dice(seed)
            chosen = {metric: dice.choice(sorted(values)) for metric, values in weights.items()}
            scope, right = dice.choice("UC"), dice.choice("NLH")
            number = {metric: weights[metric][value] for metric, value in chosen.items()}
            base = 1 - math.prod(1 - number[metric] for metric in "CIA")
            impact = 6.42 * base if scope == "U" else 7.52 * (base - 0.029) - 3.25 * (base - 0.02) ** 15
            reach = 8.22 * number["AV"] * number["AC"] * rights[scope][right] * number["UI"]
            raw = min((1.08 if scope == "C" else 1) * (impact + reach), 10) if impact > 0 else 0
            whole = round(raw * 100000)
            score = whole / 100000 if whole % 10000 == 0 else (whole // 10000 + 1) / 10
            vector = "/".join(f"{key}:{value}" for key, value in {**chosen, "PR": right, "S": scope}.items())
            self.assertEqual(score_of([f"CVSS:3.1/{vector}"]), score, vector)

    def test_unreadable(self) -> None:
        """What is no vector tells no score; of several the highest counts."""
        for vector in (
            "",
            "9.8",
            "CVSS:3.1/AV:N",
            "CVSS:2.0/AV:N",
            "CVSS:4.0/" + "A:" * 200,
            "CVSS:3.1/AV:Q",
        ):
            self.assertIsNone(score_of([vector]), vector)
        self.assertEqual(score_of([MILD, "x", SEVERE]), 9.8)
        self.assertEqual(score_of([f"{SEVERE}/E:P"]), 9.3)


class Judging(unittest.TestCase):
    """What a release breaks, by one set of rules or several."""

    def test_licences(self) -> None:
        for expression, allowed, expected in LICENCES:
            with self.subTest(expression=expression, allowed=allowed):
                asked = canonical(expression)
                assert asked is not None
                self.assertIs(
                    is_allowed(asked, [text for text in map(canonical, allowed.split(",")) if text]), expected
                )
        for wrong in ("", "not one", "MIT AND", "(" * 200 + "MIT" + ")" * 200, "MIT" * 5000):
            self.assertIsNone(canonical(wrong), wrong[:20])

    def test_licence_rule(self) -> None:
        """An exception by name, and an unknown licence, which is an answer of its own."""
        rule = LicenceRule(allowed=("MIT",), exempt={library_name("mitewatch"): "bought"})
        cases = (
            (rule, Licence("MIT"), []),
            (rule, Licence("Zlib"), [True]),
            (rule, Licence(None, "see the file"), [True]),
            (LicenceRule(allowed=("MIT",), unknown_refuses=False), Licence(None), [False]),
            (LicenceRule(allowed=("MIT",), exempt={library_name("tallywax"): "bought"}), Licence(None), []),
        )
        for stated, licence, expected in cases:
            rules = [RuleSet(where="here", licences=stated)]
            found = breaches_of(facts(licence=licence), (), rules, NOW)
            self.assertEqual([breach.refuses for breach in found], expected, (stated, licence))

    def test_severity_and_acceptance(self) -> None:
        """From the severity on, or where none is told; it is accepted under any name, until a day."""
        until = {"over": date(2026, 5, 31), "today": date(2026, 6, 1)}
        cases = (
            ((SEVERE,), 7.0, None, True),
            ((MILD,), 7.0, None, False),
            ((MILD,), None, None, True),
            ((), 7.0, None, True),
            ((SEVERE,), 7.0, ("HIVE-1", "today"), False),
            ((SEVERE,), 7.0, ("APIARY-7", "today"), False),
            ((SEVERE,), 7.0, ("HIVE-1", "over"), True),
            ((SEVERE,), 7.0, ("HIVE-2", "today"), True),
        )
        for vectors, severity, said, refuses in cases:
            told = advisory("introduced=0", vectors=vectors, aliases=("APIARY-7",))
            twin = advisory("introduced=0", name="APIARY-7")
            accepted = (Accepted(id=said[0], reason="unused", until=until[said[1]]),) if said else ()
            rules = RuleSet(where="here", advisories=("x",), severity=severity, accepted=accepted)
            (breach,) = breaches_of(facts(), [told, twin], [rules], NOW)
            self.assertEqual(
                (breach.refuses, breach.rule), (refuses, Rule.ADVISORIES), (vectors, severity, said)
            )

    def test_origin_and_age(self) -> None:
        cases = (
            (OriginRule(builds=False), Origin(only_source=True), 1),
            (OriginRule(addresses=False), Origin(address=True), 1),
            (OriginRule(commits=False), Origin(commit=True), 1),
            (OriginRule(yanked=False), Origin(yanked=True), 1),
            (OriginRule(), Origin(only_source=True, address=True, commit=True, yanked=True), 0),
            (OriginRule(only={"tally*": ("hive",)}), Origin(source="hive"), 0),
            (OriginRule(only={"tally*": ("hive",)}), Origin(source="main"), 1),
            (OriginRule(only={"tally*": ("hive", "main"), "tallywax": ("hive",)}), Origin(source="main"), 1),
            (OriginRule(only={"mite*": ()}), Origin(source="main"), 0),
        )
        for rule, origin, expected in cases:
            found = breaches_of(facts(origin=origin), (), [RuleSet(where="here", origin=rule)], NOW)
            self.assertEqual(len(found), expected, (rule, origin))
        old, young = datetime(2026, 5, 1, tzinfo=UTC), datetime(2026, 5, 31, tzinfo=UTC)
        for moments, age, expected in (
            ((old,), AgeRule(seconds=86400 * 14), 0),
            ((old, young), AgeRule(seconds=86400 * 14), 1),
            ((None,), AgeRule(seconds=60), 1),
            ((young,), AgeRule(seconds=86400 * 14, libraries=("tally*",)), 0),
            ((young,), AgeRule(seconds=86400 * 14, sources=("hive",)), 0),
        ):
            rules = [RuleSet(where="here", age=age)]
            found = breaches_of(facts(uploaded=moments, origin=Origin(source="hive")), (), rules, NOW)
            self.assertEqual(len(found), expected, (moments, age))

    def test_several_sets(self) -> None:
        """Each is judged by itself; a declaration's exceptions count for what it shares."""
        own = RuleSet(
            where="own", severity=9.9, accepted=(Accepted(id="HIVE-1", reason="x", until=NOW.date()),)
        )
        strict = RuleSet(where="strict", severity=4.0)
        told = [advisory("introduced=0", vectors=(SEVERE,))]
        for rules, refuses, places in (
            ([own], False, ("own",)),
            ([own, strict], True, ("strict",)),
            ([own, shared_rules(strict, own)], False, ("own", "strict")),
        ):
            (breach,) = breaches_of(facts(), told, rules, NOW)
            self.assertEqual((breach.refuses, breach.places), (refuses, places))


class Narrowed(DictProvider):
    """A provider whose releases rules leave fewer of."""

    def __init__(self, releases: dict, refused: set[tuple[str, str]]) -> None:
        super().__init__(releases)
        self._refused = refused

    def candidates(self, name: str) -> Candidates:
        return narrowed(
            super().candidates(name),
            lambda one: (
                "refused by the rule age: too young" if (one.name, str(one.version)) in self._refused else ""
            ),
        )


class InTheSolver(unittest.TestCase):
    """Rules narrow the candidates: against all answers that hold nothing refused."""

    def test_random_rules(self) -> None:
        for seed in chance.seeds(500):
            releases, wanted = random_instance(seed)
            dice = chance.dice(-seed)
            all_ = [
                (name, version.rstrip("!")) for name, versions in releases.items() for version in versions
            ]
            refused = {one for one in all_ if dice.random() < 0.3}
            left = {
                name: {v: needs for v, needs in versions.items() if (name, v.rstrip("!")) not in refused}
                for name, versions in releases.items()
            }
            answers = list(_all_answers(left, wanted))
            before = {
                library_name(name): (Version(dice.choice([*v]).rstrip("!")),) for name, v in releases.items()
            }
            for policy in (Policy(), Policy(kept=before)):  # the second one mends a lock
                answer = solve(Narrowed(releases, refused), TARGET, declared(*wanted), policy=policy)
                with self.subTest(seed=seed, kept=bool(policy.kept)):
                    if isinstance(answer, Refutation):
                        self.assertEqual(answers, [])
                        self.assertTrue(explained(answer, "hivescale").sentences)
                        continue
                    assert isinstance(answer, Solution)
                    chosen = {name: str(one.version) for name, one in answer.chosen.items()}
                    self.assertIn(chosen, answers)
                    if policy.kept:
                        moved = [
                            sum(Version(one.get(name, str(at))) != at for name, (at,) in before.items())
                            for one in answers
                        ]
                        self.assertEqual(moved[answers.index(chosen)], min(moved))
                    else:
                        self.assertFalse([other for other in answers if _single_raise(chosen, other)])

    def test_sentences_name_the_rule(self) -> None:
        answer = solve(
            Narrowed({"tallywax": {"1.0": []}}, {("tallywax", "1.0")}), TARGET, declared("tallywax")
        )
        assert isinstance(answer, Refutation)
        self.assertIn("refused by the rule age", " ".join(explained(answer, "hivescale").sentences))
        self.assertEqual(refusing(()), ())
