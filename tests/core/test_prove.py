"""The furthest raises: random changes, requirements and oracles, held against exhaustive search."""

import itertools
import math
import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st
from packaging.version import Version

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.prove.bounds import Edge, edge_of
from rabbet.core.prove.newest import NewestAnswer, NewestVerdict, find_newest
from tests.core.test_culprit import FAILED, PASSED, Asked, Free, failing_with, names


class Needing:
    """A mixture is consistent where each change has what it needs; found by looking at all mixtures."""

    def __init__(self, needs: dict) -> None:
        self.needs = needs
        every = sorted(needs)
        sets = itertools.chain.from_iterable(
            itertools.combinations(every, size) for size in range(len(every) + 1)
        )
        self.all = [found for found in map(frozenset, sets) if all(needs[name] <= found for name in found)]

    def least(self, wanted: Mixture, within: Mixture) -> Mixture | None:
        return min((one for one in self.all if wanted <= one <= within), key=len, default=None)

    def most(self, unwanted: Mixture, within: Mixture) -> Mixture | None:
        return max((one for one in self.all if one <= within - unwanted), key=len, default=None)


class Newest(unittest.TestCase):
    """What is raised, what is kept back, and how many environments that takes."""

    def test_guilty_ones_are_kept_back(self) -> None:
        """Each of k that fail by themselves is kept back, with 3 + k (3 + log2 n) environments at most."""
        for count, guilty in itertools.product((1, 2, 5, 20, 100), (0, 1, 2, 4)):
            if guilty > count:
                continue
            every = names(count)
            bad = random.Random(count * guilty).sample(every, guilty)
            oracle = Asked(failing_with(*(frozenset([name]) for name in bad)))
            verdict = find_newest(every, Free(), oracle)
            with self.subTest(count=count, guilty=guilty):
                self.assertEqual(verdict.passing, frozenset(every) - {*bad})
                self.assertEqual({*verdict.kept}, {*bad})
                most = 3 + guilty * (3 + math.ceil(math.log2(count)))
                self.assertLessEqual(len(verdict.runs), most)
                self.assertLessEqual(len(oracle.seen), len(verdict.runs) + 8)

    def check(self, verdict: NewestVerdict, mixing: Needing, fails: dict, every: list) -> None:
        """The result passes, is consistent, and no raise can be added to it."""
        self.assertIn(verdict.passing, mixing.all)
        self.assertFalse(fails[verdict.passing])
        self.assertEqual({*verdict.kept}, {*every} - verdict.passing)
        for name, failing in verdict.kept.items():
            added = mixing.least(verdict.passing | {name}, frozenset(every))
            if failing is None:
                self.assertIsNone(added)
            else:
                self.assertTrue(fails[failing] and failing <= added)
                self.assertTrue(fails[added] or failing != added)

    @given(st.integers(1, 6), st.integers(1, 3), st.booleans(), st.randoms(use_true_random=False))
    @settings(max_examples=400, deadline=None)
    def test_nothing_can_be_added(self, count: int, jobs: int, steady: bool, dice: random.Random) -> None:
        """Against all mixtures, with requirements, for commands that fail with more and for any others."""
        every = names(count)
        needs = {
            name: frozenset(dice.sample(every[:place], min(place, dice.choice((0, 0, 1, 2)))))
            for place, name in enumerate(every)
        }
        mixing = Needing(needs)
        sets = [
            frozenset(dice.sample(every, min(count, dice.randint(1, 3)))) for _ in range(dice.randint(0, 3))
        ]
        fails = {one: bool(one) and any(bad <= one for bad in sets) for one in mixing.all}
        if not steady:
            fails = {one: bool(one) and dice.random() < 0.5 for one in mixing.all}
        oracle = Asked(lambda mixture: FAILED if fails[mixture] else PASSED)
        verdict = find_newest(every, mixing, oracle, jobs=jobs)
        self.check(verdict, mixing, fails, every)
        if steady:
            for name in verdict.kept:
                added = mixing.least(verdict.passing | {name}, frozenset(every))
                self.assertTrue(added is None or fails[added])

    @given(st.integers(0, 40), st.randoms(use_true_random=False))
    @settings(max_examples=300, deadline=None)
    def test_edges(self, count: int, dice: random.Random) -> None:
        """The last release before those that fail, against a look at all; each is tried once, few of them."""
        releases = [Version(str(number)) for number in range(count)]
        broken = dice.randint(0, count)
        unsolved = {release for release in releases if dice.random() < dice.choice((0, 0.3))}
        solved = [release for release in releases if release not in unsolved]
        expected = Edge(
            passing=next((one for one in reversed(solved) if int(str(one)) < broken), None),
            failing=next((one for one in solved if int(str(one)) >= broken), None),
        )
        search, tried = edge_of(releases, dice.choice(releases) if releases else None), list[Version]()
        found = answer = None
        while found is None:
            try:
                release = search.send(answer)
            except StopIteration as end:
                found = end.value
                break
            tried.append(release)
            answer = None if release in unsolved else int(str(release)) < broken
        self.assertEqual(found, expected)
        self.assertEqual(len(tried), len({*tried}))
        self.assertLessEqual(len({*tried} - unsolved), 2 + math.ceil(math.log2(len(solved) + 1)))

    def test_answers(self) -> None:
        """Nothing to raise, all of it, none of it, what fails now, and what fails at times."""
        every = names(4)
        luck = random.Random(4)
        for order, answer, expected in (
            ([], lambda _: FAILED, NewestAnswer.NOTHING),
            (every, lambda _: PASSED, NewestAnswer.ALL),
            (every, lambda mixture: FAILED if mixture else PASSED, NewestAnswer.NONE),
            (every, lambda _: FAILED, NewestAnswer.FAILS_NOW),
            (every, lambda mixture: FAILED if len(mixture) > 2 else PASSED, NewestAnswer.SOME),
            (
                every,
                lambda mixture: FAILED if every[2] in mixture and luck.random() < 0.4 else PASSED,
                NewestAnswer.FLAKY,
            ),
        ):
            with self.subTest(expected):
                self.assertIs(find_newest(order, Free(), Asked(answer)).answer, expected)
