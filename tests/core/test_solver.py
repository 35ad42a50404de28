"""The solver against an exhaustive search, and by hand-made cases."""

import itertools
import random
import unittest
from collections.abc import Iterator, Mapping

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.explain.prose import explained
from rabbet.core.solve.problem.problem import Problem
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import Refutation, searched, solve
from rabbet.core.solve.straight import straight_solution
from tests.support import chance
from tests.support.catalogue import TARGET, DictProvider, declared

ROUNDS = 2000
Releases = Mapping[str, Mapping[str, list[str]]]


class AgainstExhaustiveSearch(unittest.TestCase):
    """Same verdict as trying everything; each answer is valid and can't be raised in one place."""

    def test_random_instances(self) -> None:
        for seed in chance.seeds(ROUNDS):
            with self.subTest(seed=seed):
                dice = random.Random(-seed)
                releases, wanted = random_instance(seed)
                answers = list(_all_answers(releases, wanted))
                answer = solve(DictProvider(releases), TARGET, declared(*wanted))
                if isinstance(answer, Refutation):
                    self.assertEqual(answers, [])
                    self.assertTrue(explained(answer, "hivescale").sentences)
                    continue
                chosen = {name: str(release.version) for name, release in answer.chosen.items()}
                self.assertIn(chosen, answers)
                for other in answers:
                    self.assertFalse(_single_raise(chosen, other), (chosen, other))
                self.check_lowest(releases, wanted, answers)
                self.check_fewest_moves(dice, releases, wanted, answers)
                self.check_raised_from_lock(dice, releases, wanted, answers)
                self.check_wanted(dice, releases, wanted, answers)
                self.check_straight(dice, releases, wanted, answers)
                self.check_limit(
                    _requirement(dice, sorted(releases), markers=False), releases, wanted, answers
                )
                shuffled = _shuffled(dice, releases), dice.sample(wanted, len(wanted))
                again = solve(DictProvider(shuffled[0]), TARGET, declared(*shuffled[1]))
                self.assertEqual(answer.chosen, again.chosen)

    def check_limit(
        self, limit: str, releases: Releases, wanted: list[str], answers: list[dict[str, str]]
    ) -> None:
        """A limit takes answers away, and lets none in."""
        bound = Need.parse(limit)
        left = [
            answer
            for answer in answers
            if bound.name not in answer or bound.specifier.contains(answer[bound.name], prereleases=True)
        ]
        limited = declared(*wanted, f"limit: {limit}")
        answer = solve(DictProvider(releases), TARGET, limited)
        if isinstance(answer, Refutation):
            self.assertEqual(left, [], limit)
            self.assertTrue(explained(answer, "hivescale").sentences)
            return
        chosen = {name: str(release.version) for name, release in answer.chosen.items()}
        self.assertIn(chosen, left, limit)
        for other in left:
            self.assertFalse(_single_raise(chosen, other), (chosen, other, limit))

    def check_lowest(self, releases: Releases, wanted: list[str], answers: list[dict[str, str]]) -> None:
        """With the declared ones at their lowest, none of them can be lowered and no other one raised."""
        lowest = frozenset(entry.need.name for entry in declared(*wanted))
        answer = solve(DictProvider(releases), TARGET, declared(*wanted), policy=Policy(lowest=lowest))
        assert isinstance(answer, Solution)
        chosen = {name: str(release.version) for name, release in answer.chosen.items()}
        self.assertIn(chosen, answers)
        for other in answers:
            changed = [name for name in chosen if chosen[name] != other.get(name)]
            if set(other) == set(chosen) and len(changed) == 1:
                higher, lower = (chosen, other) if changed[0] in lowest else (other, chosen)
                self.assertFalse(_single_raise(lower, higher), (chosen, other))

    def check_fewest_moves(
        self, dice: random.Random, releases: Releases, wanted: list[str], answers: list[dict[str, str]]
    ) -> None:
        """What is raised gets the newest release of any answer; then no answer moves less than the chosen."""
        before = {name: dice.choice(list(versions)).rstrip("!") for name, versions in releases.items()}
        raised = dice.sample(sorted(before), dice.randint(0, 2))
        policy = Policy(
            kept={library_name(n): (Version(v),) for n, v in before.items() if n not in raised},
            raised=tuple(library_name(name) for name in raised),
        )
        solution = solve(DictProvider(releases), TARGET, declared(*wanted), policy=policy)
        assert isinstance(solution, Solution)
        chosen = {name: str(release.version) for name, release in solution.chosen.items()}
        self.assertIn(chosen, answers)
        for name in raised:
            if not all(name in answer for answer in answers):
                break  # which of the answers is usual is not said here
            newest = max((answer[name] for answer in answers), key=Version)
            self.assertEqual(chosen[name], newest, (before, raised))
            answers = [answer for answer in answers if answer[name] == newest]
        if all(name in answer for answer in answers for name in raised):
            kept = [name for name in before if name not in raised]
            moves = [
                sum(answer.get(name, before[name]) != before[name] for name in kept) for answer in answers
            ]
            self.assertEqual(moves[answers.index(chosen)], min(moves), (before, raised, chosen))

    def check_raised_from_lock(
        self, dice: random.Random, releases: Releases, wanted: list[str], answers: list[dict[str, str]]
    ) -> None:
        """A locked library that is raised gets no older a release than one that lets all others stay."""
        before = dice.choice(answers)
        raised = dice.choice(sorted(before))
        kept = {library_name(n): (Version(v),) for n, v in before.items() if n != raised}
        policy = Policy(kept=kept, raised=(library_name(raised),))
        solution = solve(DictProvider(releases), TARGET, declared(*wanted), policy=policy)
        assert isinstance(solution, Solution)
        staying = [
            answer for answer in answers if all(answer.get(n) == v for n, v in before.items() if n != raised)
        ]
        newest = max(Version(answer[raised]) for answer in staying if raised in answer)
        usual = solve(DictProvider(releases), TARGET, declared(*wanted))
        assert isinstance(usual, Solution)
        if library_name(raised) in solution.chosen:
            self.assertGreaterEqual(solution.chosen[library_name(raised)].version, newest, (before, raised))
        else:
            self.assertNotIn(library_name(raised), usual.chosen, (before, raised))

    def check_wanted(
        self, dice: random.Random, releases: Releases, wanted: list[str], answers: list[dict[str, str]]
    ) -> None:
        """A wanted version is there if any answer has it or does without the library, whatever was locked."""
        before = {name: dice.choice(list(versions)).rstrip("!") for name, versions in releases.items()}
        name = dice.choice(sorted(before))
        version = dice.choice(list(releases[name])).rstrip("!")
        policy = Policy(
            kept={library_name(one): (Version(v),) for one, v in before.items()},
            wanted={library_name(name): Version(version)},
        )
        solution = solve(DictProvider(releases), TARGET, declared(*wanted), policy=policy)
        assert isinstance(solution, Solution)
        chosen = {one: str(release.version) for one, release in solution.chosen.items()}
        self.assertIn(chosen, answers)
        if any(answer.get(name, version) == version for answer in answers):
            self.assertEqual(chosen.get(name, version), version, (before, name))

    def check_straight(
        self, dice: random.Random, releases: Releases, wanted: list[str], answers: list[dict[str, str]]
    ) -> None:
        """What is found without a search is what a search finds; what works as it is liked is found."""
        liked = dict(dice.choice(answers))
        if dice.random() < 0.3:
            name = dice.choice(sorted(releases))
            liked[name] = dice.choice(list(releases[name])).rstrip("!")
        how = {name: dice.choice(["kept", "preferred", "wanted", "not liked"]) for name in liked}
        versions = {name: Version(version) for name, version in liked.items()}
        kept, preferred = (
            {library_name(name): (versions[name],) for name in liked if how[name] == manner}
            for manner in ("kept", "preferred")
        )
        firm = {library_name(name): versions[name] for name in liked if how[name] == "wanted"}
        policy = Policy(kept=kept, preferred=preferred, wanted=firm)
        found = straight_solution(Problem(DictProvider(releases), TARGET, declared(*wanted)), policy)
        answer = searched(DictProvider(releases), TARGET, declared(*wanted), policy=policy)
        assert isinstance(answer, Solution)
        if liked in answers and set(how.values()) == {"kept", "preferred"}:
            self.assertIsNotNone(found, policy)
        if found is not None:
            self.assertEqual((found.chosen, found.needs), (answer.chosen, answer.needs), policy)


def random_instance(seed: int) -> tuple[dict[str, dict[str, list[str]]], list[str]]:
    """A few libraries with extras, markers, pre-releases, yanked and broken releases, and conflicts."""
    dice = random.Random(seed)
    names = ["combframe", "pollencsv", "hivewire", "tallywax", "skepio"][: dice.randint(2, 5)]
    versions = ["1.0", "1.1", "2.0rc1", "2.0", "3.0"]
    releases: dict[str, dict[str, list[str]]] = {}
    for name in names:
        releases[name] = {}
        for version in dice.sample(versions, dice.randint(1, 3)):
            needs = [_requirement(dice, names) for _ in range(dice.choice([0, 1, 1, 2]))]
            needs = ["broken"] if dice.random() < 0.04 else needs
            releases[name][version + ("!" if dice.random() < 0.1 else "")] = needs
    wanted = [_requirement(dice, names, markers=False) for _ in range(dice.randint(1, 3))]
    return releases, wanted


def _requirement(dice: random.Random, names: list[str], *, markers: bool = True) -> str:
    extra = dice.choice(["", "", "", "[fast]"])
    bounds = ["", "", ">=1.1", "<2", "==1.*", ">=2", "!=1.1", "==2.0", ">=2.0rc1", "<=2.0", ">1.1,<3"]
    marks = ["", "", "", '; extra == "fast"', '; sys_platform == "win32"', '; python_version >= "3.8"']
    return dice.choice(names) + extra + dice.choice(bounds) + (dice.choice(marks) if markers else "")


def _shuffled(dice: random.Random, releases: Releases) -> Releases:
    turned = {}
    for name in dice.sample(list(releases), len(releases)):
        versions = dice.sample(list(releases[name]), len(releases[name]))
        turned[name] = {
            version: dice.sample(releases[name][version], len(releases[name][version]))
            for version in versions
        }
    return turned


def _single_raise(chosen: Mapping[str, str], other: Mapping[str, str]) -> bool:
    """Whether `other` differs in one library only, and is newer there."""
    if set(chosen) != set(other):
        return False
    changed = [name for name in chosen if chosen[name] != other[name]]
    return len(changed) == 1 and SpecifierSet(f">{chosen[changed[0]]}").contains(
        other[changed[0]], prereleases=True
    )


def _all_answers(releases: Releases, wanted: list[str]) -> Iterator[dict[str, str]]:
    """Every valid set of releases in which nothing is superfluous, by trying all combinations."""
    options = [[None, *versions] for versions in releases.values()]
    roots = [Need.parse(text) for text in wanted]
    for combination in itertools.product(*options):
        chosen = {
            name: release for name, release in zip(releases, combination, strict=True) if release is not None
        }
        reached: set[str] = set()
        if _holds(releases, roots, roots, chosen, reached, set()) and reached == set(chosen):
            yield {name: release.rstrip("!") for name, release in chosen.items()}


def _holds(
    releases: Releases,
    roots: list[Need],
    needs: list[Need],
    chosen: Mapping[str, str],
    reached: set[str],
    parts: set[tuple[str, str]],
) -> bool:
    """Whether all needs, and the needs of what they reach, are met by the chosen releases."""
    for need in needs:
        if need.marker and not need.marker.evaluate({**TARGET.markers, "extra": ""}):
            continue
        if not _admits(releases, roots, need, chosen.get(need.name)):
            return False
        reached.add(need.name)
        texts = releases[need.name][chosen[need.name]]
        if texts == ["broken"]:
            return False
        for extra in ("", *need.extras):
            if (need.name, extra) in parts:
                continue
            parts.add((need.name, extra))
            inner = [Need.parse(text) for text in texts]
            active = [
                replace(need, marker=None)
                for need in inner
                if not need.marker or need.marker.evaluate({**TARGET.markers, "extra": extra})
            ]
            if not _holds(releases, roots, active, chosen, reached, parts):
                return False
    return True


def _admits(releases: Releases, roots: list[Need], need: Need, version: str | None) -> bool:
    """The rule for pre-releases and yanked releases, spelt out for one requirement and one release."""

    def by_itself(one: Need) -> bool:
        offered = [text.rstrip("!") for text in releases[one.name] if not text.endswith("!")]
        if version is not None and version.endswith("!"):
            pinned = str(one.specifier).startswith("==") and "*" not in str(one.specifier)
            return pinned and one.specifier.contains(version.rstrip("!"), prereleases=True)
        return version in [str(text) for text in one.specifier.filter(offered)]

    if version is None or not need.specifier.contains(version.rstrip("!"), prereleases=True):
        return False
    return by_itself(need) or any(by_itself(root) for root in roots if root.name == need.name)


CASES = [
    # title, wanted, releases, chosen
    (
        "cycles and self-dependencies are fine",
        ["combframe[all]"],
        {
            "combframe": {
                "1": ['combframe[fast]; extra == "all"', 'skepio; extra == "fast"', "combframe>=1"]
            },
            "skepio": {"1": ["combframe"]},
        },
        {"combframe": "1", "skepio": "1"},
    ),
    (
        "a release whose metadata is broken is passed over",
        ["combframe"],
        {"combframe": {"1": [], "2": ["broken"]}},
        {"combframe": "1"},
    ),
]


class ByHand(unittest.TestCase):
    """Cases that stand for something."""

    def test_cases(self) -> None:
        for title, wanted, releases, expected in CASES:
            with self.subTest(title):
                answer = solve(DictProvider(releases), TARGET, declared(*wanted))
                assert isinstance(answer, Solution)
                self.assertEqual({n: str(c.version) for n, c in answer.chosen.items()}, expected)
