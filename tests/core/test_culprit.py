"""The search for the culprit: random changes, requirements, guilty sets and oracles, some of them flaky."""

import itertools
import math
import random
import unittest
from collections.abc import Callable, Sequence

from hypothesis import given, settings
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.culprit.consistency import PYTHON, Consistency, Side, in_order
from rabbet.core.culprit.mixture import Mixture, StateChange, bounds_without
from rabbet.core.culprit.outcome import End, Outcome, Runs, Symptom
from rabbet.core.culprit.verdict import CulpritVerdict, SearchAnswer, find_culprits
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.python.choosing.targets import named_target
from tests.support import chance
from tests.support.catalogue import TARGET

RATES = (  # runs of each mixture, how often the guilty ones fail, how often the culprit is found at least
    *((1, 0.3, 0), (1, 0.5, 0), (1, 0.7, 0), (1, 0.9, 0)),
    *((4, 0.5, 0), (20, 0.5, 58), (20, 0.9, 60)),
)
PASSED, FAILED, NEITHER = Runs(1), Runs(0, 1), Runs(0, 0, 1)


class Free:
    """Every mixture is consistent."""

    def least(self, wanted: Mixture, within: Mixture) -> Mixture | None:
        return wanted if wanted <= within else None

    def most(self, unwanted: Mixture, within: Mixture) -> Mixture | None:
        return within - unwanted


class Asked:
    """An oracle that notes what it was asked, and how often."""

    def __init__(self, answer: Callable[[Mixture], Runs]) -> None:
        self.answer = answer
        self.seen: list[Mixture] = []

    def __call__(self, mixtures: Sequence[Mixture], _: str) -> list[Runs]:
        self.seen += mixtures
        return [self.answer(mixture) for mixture in mixtures]


def failing_with(*guilty: Mixture) -> Callable[[Mixture], Runs]:
    """Fails wherever all of one of these are."""
    return lambda mixture: FAILED if any(culprit <= mixture for culprit in guilty) else PASSED


def names(count: int) -> list[NormalizedName]:
    """The names of so many changes."""
    return [library_name(f"library{number}") for number in range(count)]


def guilty_in(verdict: CulpritVerdict) -> list[Mixture]:
    """What is guilty, culprit by culprit."""
    return [culprit.guilty for culprit in verdict.culprits]


class Searching(unittest.TestCase):
    """Without requirements: what is found, and how many mixtures that takes."""

    def test_one_guilty_takes_logarithmically_many(self) -> None:
        """Four and log2(n) mixtures at most, both states among them; each is tried once but for the proof.

        That is one run more of those that pass, and six of those that fail.
        """
        for count in (1, 2, 3, 8, 20, 100):
            for guilty in names(count):
                oracle = Asked(failing_with(frozenset({guilty})))
                verdict = find_culprits(names(count), Free(), oracle)
                self.assertEqual(guilty_in(verdict), [{guilty}])
                self.assertEqual(verdict.innocent, set(names(count)) - {guilty})
                self.assertLessEqual(len(verdict.runs), 4 + math.ceil(math.log2(count)))
                self.assertLessEqual(len(oracle.seen), len(verdict.runs) + 7)

    @given(st.integers(2, 30), st.integers(1, 4), st.randoms(use_true_random=False))
    @settings(max_examples=200, deadline=None)
    def test_all_guilty_sets_are_found(self, count: int, jobs: int, dice: random.Random) -> None:
        """Several that only fail together, several culprits beside each other, and what is left passes."""
        every = names(count)
        sets = [
            frozenset(dice.sample(every, min(count, dice.randint(1, 3)))) for _ in range(dice.randint(1, 2))
        ]
        verdict = find_culprits(every, Free(), Asked(failing_with(*sets)), jobs=jobs)
        self.assertIs(verdict.answer, SearchAnswer.FOUND)
        found = guilty_in(verdict)
        self.assertTrue(set(found) <= set(sets), (found, sets))
        self.assertFalse(any(one <= frozenset(every).difference(*found) for one in sets))
        self.assertEqual(verdict.odd, ())
        size, single = sum(map(len, found)), math.ceil(math.log2(count)) + 2
        if jobs == 1:
            self.assertLessEqual(len(verdict.runs), 2 + size * single + len(found))

    @given(st.integers(2, 12), st.floats(0, 0.6), st.randoms(use_true_random=False))
    @settings(max_examples=200, deadline=None)
    def test_other_failures_are_no_failures(self, count: int, share: float, dice: random.Random) -> None:
        """Where mixtures do neither, what is named holds the guilty, and its evidence is what was seen."""
        every = names(count)
        guilty = frozenset(dice.sample(every, min(count, dice.randint(1, 2))))
        told: dict[Mixture, Runs] = {Mixture(): PASSED, frozenset(every): FAILED}

        def answer(mixture: Mixture) -> Runs:
            known = NEITHER if dice.random() < share else failing_with(guilty)(mixture)
            return told.setdefault(mixture, known)

        verdict = find_culprits(every, Free(), Asked(answer), jobs=dice.randint(1, 2))
        self.assertIs(verdict.answer, SearchAnswer.FOUND)
        culprit = verdict.culprits[0]
        self.assertIs(told[culprit.failing], FAILED)
        self.assertTrue(guilty <= culprit.failing)
        self.assertTrue(guilty & (culprit.guilty | culprit.unclear))

    def test_two_smallest_failures(self) -> None:
        """Where neither can be taken apart, both are told, for each fails without the other one."""
        every = names(4)
        told = {
            "": PASSED,
            "0123": FAILED,
            "01": PASSED,
            "12": PASSED,
            "23": FAILED,
            "013": FAILED,
            "03": FAILED,
        }

        def answer(mixture: Mixture) -> Runs:
            return told.get("".join(sorted(name[-1] for name in mixture)), NEITHER)

        verdict = find_culprits(every, Free(), Asked(answer), jobs=2)
        self.assertIs(verdict.answer, SearchAnswer.FOUND)
        self.assertEqual(
            [sorted(culprit) for culprit in guilty_in(verdict)], [[every[0], every[3]], [every[2], every[3]]]
        )

    def test_both_states_alone(self) -> None:
        """What is answered without any search."""
        for good, bad, expected in (
            (PASSED, PASSED, SearchAnswer.BOTH_PASS),
            (FAILED, FAILED, SearchAnswer.BOTH_FAIL),
            (FAILED, PASSED, SearchAnswer.REVERSED),
            (NEITHER, FAILED, SearchAnswer.UNTELLABLE),
            (PASSED, NEITHER, SearchAnswer.UNTELLABLE),
            (Runs(3, 1), FAILED, SearchAnswer.FLAKY),
        ):
            oracle = Asked(lambda mixture, good=good, bad=bad: bad if mixture else good)
            verdict = find_culprits(names(3), Free(), oracle)
            self.assertIs(verdict.answer, expected)
            self.assertEqual(len(oracle.seen), 2)
        self.assertIs(find_culprits([], Free(), Asked(failing_with())).answer, SearchAnswer.NO_DIFFERENCE)


class Flaky(unittest.TestCase):
    """Commands that do one thing and then another."""

    @given(st.integers(2, 12), st.integers(1, 3), st.randoms(use_true_random=False))
    @settings(max_examples=300, deadline=None)
    def test_a_verdict_rests_on_what_was_seen(self, count: int, jobs: int, dice: random.Random) -> None:
        """Whatever an oracle says: what a verdict rests upon was tried twice, and never did otherwise."""
        seen: dict[Mixture, list[Runs]] = {}

        def answer(mixture: Mixture) -> Runs:
            ends = {Mixture(): PASSED, frozenset(names(count)): FAILED}
            said = ends.get(mixture) if dice.random() < 0.8 else None
            seen.setdefault(mixture, []).append(said or dice.choice([PASSED, FAILED, NEITHER]))
            return seen[mixture][-1]

        verdict = find_culprits(names(count), Free(), Asked(answer), jobs=jobs)
        if verdict.answer is SearchAnswer.FOUND:
            for culprit in verdict.culprits:
                self.assertGreaterEqual(len(seen[culprit.failing]), 2)
                self.assertIn(FAILED, seen[culprit.failing])
                self.assertNotIn(FAILED, seen[culprit.passing])
            self.assertLessEqual(verdict.luck, 0.01)

    def test_rates_in_place_of_a_false_verdict(self) -> None:
        """With runs enough the guilty one is found, with too few it is said how many it takes."""
        for repeat, rate, least in RATES:
            right = wrong = 0
            for seed in range(60):
                dice = random.Random(seed)
                guilty = frozenset(dice.sample(names(20), 1))
                verdict = find_culprits(names(20), Free(), Asked(_at_times(guilty, rate, repeat, dice)))
                if verdict.answer is SearchAnswer.FOUND:
                    right += guilty_in(verdict) == [guilty]
                    wrong += guilty_in(verdict) != [guilty]
                elif verdict.answer is SearchAnswer.FLAKY and verdict.luck:
                    self.assertGreater(verdict.repeats, 1)
            self.assertGreaterEqual(right, least, (repeat, rate))
            self.assertLessEqual(wrong, 1 if repeat == 1 else 0, (repeat, rate))


def _at_times(guilty: Mixture, rate: float, repeat: int, dice: random.Random) -> Callable[[Mixture], Runs]:
    def answer(mixture: Mixture) -> Runs:
        failed = sum(dice.random() < rate for _ in range(repeat)) if guilty <= mixture else 0
        return Runs(repeat - failed, failed)

    return answer


def _side(libraries: dict[str, tuple[str, list[str]]], python: str = "") -> Side:
    return Side(
        target=named_target("linux-x86_64", python, {}) if python else TARGET,
        libraries={
            library_name(name): Metadata(
                name=library_name(name),
                version=Version(version),
                requires_python=SpecifierSet(),
                needs=tuple(map(Need.parse, needs)),
                extras=frozenset({library_name("fast")}),
            )
            for name, (version, needs) in libraries.items()
        },
    )


def _random_states(dice: random.Random) -> tuple[Side, Side]:
    """Two states of some libraries whose requirements each state itself meets."""
    letters = "abcdef"[: dice.randint(2, 6)]
    states = []
    for version in ("1", "2"):
        there = [letter for letter in letters if dice.random() < 0.85]
        versions = {installed: version if dice.random() < 0.85 else "1" for installed in there}
        states.append(
            {
                installed: (
                    versions[installed],
                    [
                        other + dice.choice(["", ">=1", "=={0}", "<={0}"]).format(versions[other])
                        for other in there
                        if other > installed and dice.random() < 0.4
                    ],
                )
                for installed in there
            }
        )
    for name in letters:  # one release has the same needs wherever it is
        sides = [state[name] for state in states if name in state]
        if len(sides) == 2 and sides[0][0] == sides[1][0]:
            states[1][name] = sides[0]
    return _side(states[0]), _side(states[1])


def _consistent(mixture: Mixture, good: Side, bad: Side) -> bool:
    """Whether every need that both states take seriously is met, by looking at each."""
    unmet = {(part[0], need) for side in (good, bad) for part, need in side.unmet()}
    there = {
        name: side.libraries[name]
        for name in {*good.libraries, *bad.libraries}
        for side in [bad if name in mixture else good]
        if name in side.libraries
    }
    return all(
        need.name in there and need.specifier.contains(there[need.name].version)
        for name, installed in there.items()
        for need in installed.needs
        if (name, need) not in unmet
    )


class Consistent(unittest.TestCase):
    """Mixtures of libraries that need each other."""

    def test_random_requirements_against_all_mixtures(self) -> None:
        """All that is tried is consistent, as small as can be, and what is found is a smallest failure."""
        for seed in chance.seeds(300):
            with self.subTest(seed=seed):
                dice = random.Random(seed)
                good, bad = _random_states(dice)
                changes = frozenset(
                    name
                    for name in {*good.libraries, *bad.libraries}
                    if good.libraries.get(name) != bad.libraries.get(name)
                )
                every = [
                    mixture
                    for size in range(len(changes) + 1)
                    for mixture in map(frozenset, itertools.combinations(sorted(changes), size))
                    if _consistent(mixture, good, bad)
                ]
                mixing = Consistency(good, bad, changes)
                for name in changes:
                    least = mixing.least(frozenset({name}), changes)
                    holding = [mixture for mixture in every if name in mixture]
                    self.assertEqual(len(least) if least else None, min(map(len, holding), default=None))
                if not changes:
                    continue
                guilty = frozenset(dice.sample(sorted(changes), min(len(changes), dice.randint(1, 2))))
                oracle = Asked(failing_with(guilty))
                verdict = find_culprits(in_order(changes, good, bad), mixing, oracle, jobs=dice.randint(1, 2))
                self.assertTrue(set(oracle.seen) <= set(every))
                failing = verdict.culprits[0].failing
                self.assertFalse([mixture for mixture in every if mixture < failing and guilty <= mixture])
                self.assertTrue(all(group & guilty for group in verdict.culprits[0].groups))

    def test_what_nothing_parts(self) -> None:
        """Changes that need each other are told as one; what only comes along is told apart."""
        good = _side({"a": ("1", ["b<2"]), "b": ("1", []), "c": ("1", [])})
        bad = _side({"a": ("2", ["b>=2", "z"]), "b": ("2", []), "c": ("2rc1", []), "z": ("1", [])})
        changes = frozenset({*good.libraries, *bad.libraries})
        for guilty, groups, company in (
            ("a", [{"a", "b"}], {"z"}),
            ("c", [{"c"}], set()),
            ("z", [{"z"}], set()),
        ):
            mixing = Consistency(good, bad, changes)
            oracle = Asked(failing_with(frozenset({library_name(guilty)})))
            culprit = find_culprits(in_order(changes, good, bad), mixing, oracle).culprits[0]
            self.assertEqual([set(group) for group in culprit.groups], groups)
            self.assertEqual(culprit.company, company)

    def test_python_and_extras(self) -> None:
        """A change of Python takes along what can't be had for it; an extra what it needs."""
        good = _side({"a": ("1", ["b"]), "b": ("1", ["c; extra == 'fast'"])}, "3.12")
        bad = _side({"a": ("2", ["b[fast]"]), "b": ("1", ["c; extra == 'fast'"]), "c": ("1", [])}, "3.13")
        bad = Side(target=bad.target, libraries=bad.libraries, lacking=frozenset({("a", Version("1"))}))
        changes = frozenset({PYTHON, library_name("a"), library_name("c")})
        mixing = Consistency(good, bad, changes)
        self.assertEqual(mixing.least(frozenset({PYTHON}), changes), changes)
        self.assertEqual(mixing.least(frozenset({library_name("a")}), changes), {"a", "c"})
        self.assertEqual(mixing.most(frozenset({library_name("a")}), changes), {"c"})


class Telling(unittest.TestCase):
    """The failure among others, and what keeps a release out."""

    def test_symptoms(self) -> None:
        good, one, crash, late = End("exit"), End("exit", 1), End("signal", 11), End("time")
        shown = End("exit", 1, shows=True)
        for symptom, ends in (
            (Symptom(how="exit"), {good: "PASS", one: "FAIL", crash: "OTHER", late: "OTHER"}),
            (Symptom(how="time"), {good: "PASS", one: "OTHER", late: "FAIL"}),
            (Symptom(code=139), {good: "PASS", one: "OTHER", crash: "FAIL"}),
            (Symptom(text="boom"), {good: "PASS", one: "OTHER", shown: "FAIL", End("exit", 0, True): "FAIL"}),
            (Symptom(text="boom", code=1), {one: "OTHER", shown: "FAIL", End("exit", 2, True): "OTHER"}),
            (Symptom(), {End("lost"): "OTHER", crash: "FAIL"}),
        ):
            for end, expected in ends.items():
                self.assertIs(symptom.judge(end), Outcome[expected], (symptom, end))

    def test_bounds(self) -> None:
        for good, bad, expected in (
            ("1.25.2", "2.4.6", ["<2", "<=1.25.2", "!=2.4.6"]),
            ("2.0", "2.1", ["<2.1", "<=2.0", "!=2.1"]),
            ("2.0.1", "2.0.4", ["<2.0.2", "<=2.0.1", "!=2.0.4"]),
            ("2.1", "2.1.post1", ["<=2.1", "!=2.1.post1"]),
            ("1!1.0", "1!2.0", ["<1!2", "<=1!1.0", "!=1!2.0"]),
            ("2.1", "2.0", [">=2.1", "!=2.0"]),
            ("", "3.0", ["!=3.0"]),
            ("3.0", "3.0", ["!=3.0"]),
        ):
            change = StateChange(name=library_name("combframe"), good=good, bad=bad)
            self.assertEqual(list(bounds_without(change)), expected)
            for bound in expected:
                self.assertFalse(SpecifierSet(bound).contains(bad, prereleases=True), (bound, bad))
                self.assertTrue(not good or good == bad or SpecifierSet(bound).contains(good), (bound, good))
