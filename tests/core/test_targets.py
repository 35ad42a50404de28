"""One lock for several targets: reading it back gives each target exactly its solution."""

import random
import unittest
from itertools import combinations

from packaging.markers import Marker
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.lock.build import Solved, build_lock
from rabbet.core.lock.marker import separating_marker
from rabbet.core.model.lock import Lock, LockedLibrary, LockedWheel, Selection
from rabbet.core.needs.names import library_name
from rabbet.core.solve.answer import Solution
from rabbet.core.solve.solver import solve
from rabbet.errors import EnvironmentFailed
from rabbet.formats.pylock import read_lock, write_lock
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import joined, named_target
from tests.core.test_solver import random_instance
from tests.support import chance
from tests.support.catalogue import EMPTY, DictProvider, declared

PLATFORMS = ("linux-aarch64", "linux-x86_64", "linux-x86_64-musl", "macos-arm64", "windows-x86_64")
PYTHONS = ("3.9", "3.11", "3.12")
TARGETS = joined(named_target(platform, python, {}) for platform in PLATFORMS for python in PYTHONS)
MARKS = [
    "sys_platform == 'win32'",
    "sys_platform != 'darwin'",
    "python_version < '3.11'",
    "python_version >= '3.12' and platform_machine == 'x86_64'",
]
ROUNDS = 120


class OlderSystems(unittest.TestCase):
    """A lock that was made on a newer system."""

    def test_what_helps(self) -> None:
        """It is widened by naming the target, and the baseline where that is too new as well."""
        wheel = LockedWheel(filename="skepio-1.0-cp312-cp312-manylinux_2_36_x86_64.whl", sha256="", path="")
        library = LockedLibrary(name=library_name("skepio"), version=Version("1.0"), artifacts=(wheel,))
        lock = Lock(
            requires_python=None,
            environments=(),
            groups=(),
            libraries=(library,),
            fingerprint=None,
        )
        for version, command in {
            "2.31": "rabbet declare --target linux-x86_64 && rabbet resolve",
            "2.17": "rabbet declare --target linux-x86_64 --baseline glibc=2.17 && rabbet resolve",
        }.items():
            target = named_target("linux-x86_64", "3.12", {"glibc": version})
            with self.assertRaises(EnvironmentFailed) as raised:
                needed(lock, target, lock.everything, EMPTY)
            self.assertEqual([way.command for way in raised.exception.ways], [command])


class Markers(unittest.TestCase):
    """The shortest marker for some of the targets."""

    def test_separates_exactly(self) -> None:
        """For random subsets the marker holds for them and no other, and is no longer than naming each."""
        dice = chance.dice(7)
        for _ in range(150):
            wanted = frozenset(dice.sample(range(len(TARGETS)), dice.randint(1, len(TARGETS))))
            free = frozenset(dice.sample(range(len(TARGETS)), dice.choice([0, 0, 3]))) - wanted
            text = separating_marker(TARGETS, wanted, free)
            with self.subTest(wanted=sorted(wanted), free=sorted(free), marker=text):
                found = {
                    i for i, one in enumerate(TARGETS) if not text or Marker(text).evaluate(dict(one.markers))
                }
                self.assertEqual(found - free, wanted)
                whole = " or ".join(TARGETS[position].environment for position in wanted)
                self.assertLessEqual(len(text), len(whole))

    def test_many_irregular_ones(self) -> None:
        """Where the search for the shortest would take too long, a short one does."""
        minors = [f"3.{minor}" for minor in range(6, 14)]
        targets = [
            named_target(name, minor, {}) for name in PLATFORMS if "musl" not in name for minor in minors
        ]
        wanted = frozenset(chance.dice(5).sample(range(len(targets)), 15))
        marker = Marker(separating_marker(targets, wanted))
        found = {place for place, target in enumerate(targets) if marker.evaluate(dict(target.markers))}
        self.assertEqual(found, wanted)

    def test_shortest(self) -> None:
        """What one comparison can say is said by one comparison."""
        systems = {position: target.markers["sys_platform"] for position, target in enumerate(TARGETS)}
        for chosen in (("win32",), ("linux", "darwin"), ("linux", "win32")):
            wanted = frozenset(position for position, system in systems.items() if system in chosen)
            self.assertNotIn(" and ", separating_marker(TARGETS, wanted))
        self.assertEqual(separating_marker(TARGETS, frozenset(range(len(TARGETS)))), "")
        for combination, other in combinations(range(3), 2):
            self.assertIn("python_version", separating_marker(TARGETS[:3], frozenset((combination, other))))


class Patches(unittest.TestCase):
    """What counts on some patch releases of a version of Python, and not on others."""

    def test_table(self) -> None:
        for marker, extra, expected in (
            ('python_full_version < "3.12.4"', "", True),
            ('python_full_version == "3.12.7"', "", True),
            ('python_full_version != "3.12.0"', "", True),
            ('"3.12.4" > python_full_version and sys_platform == "linux"', "", True),
            ('python_full_version < "3.12.4" and sys_platform == "win32"', "", False),
            ('python_full_version < "3.12.4" and extra == "plots"', "", False),
            ('python_full_version < "3.12.4" and extra == "plots"', "plots", True),
            ('python_full_version <= "3.12.0a6"', "", False),
            ('python_full_version >= "3.12"', "", False),
            ('python_full_version < "3.11.4"', "", False),
            ('python_full_version < "3.12.4" or python_full_version >= "3.12.4"', "", False),
            ('python_version < "3.12"', "", False),
        ):
            with self.subTest(marker):
                target = named_target("linux-x86_64", "3.12", {})
                self.assertEqual(target.depends_on_patch(Marker(marker), extra), expected)


class Merging(unittest.TestCase):
    """Solutions → lock → text → lock → what each target needs."""

    def test_each_target_gets_its_solution(self) -> None:
        seen = 0
        for seed in chance.seeds(ROUNDS):
            with self.subTest(seed=seed):
                dice = random.Random(seed)
                releases, wanted = random_instance(seed)
                own = [
                    f"{requirement}; {dice.choice(MARKS)}" if dice.random() < 0.5 else requirement
                    for requirement in wanted
                ]
                groups = {"checks": own[1:2], "docs": own[2:3]}
                entries = declared(
                    own[0], *(f"{name}: {entry}" for name, some in groups.items() for entry in some)
                )
                answers = [solve(DictProvider(releases), target, entries) for target in TARGETS]
                solutions = [answer for answer in answers if isinstance(answer, Solution)]
                if len(solutions) < len(TARGETS):
                    continue
                seen += 1
                self.check(solutions, groups, own)
        self.assertGreater(seen, 5)

    def check(self, solutions: list[Solution], groups: dict[str, list[str]], own: list[str]) -> None:
        declaration = Declaration(
            name="hivescale",
            python=SpecifierSet(),
            needs=tuple(entry.need for entry in declared(own[0])),
            groups={"checks": tuple(entry.need for entry in declared(*groups["checks"]))},
            extras={"docs": tuple(entry.need for entry in declared(*groups["docs"]))},
            sources=(),
        )
        settled = [
            Solved(
                solution=solution,
                artifacts={name: [self.wheel(name, c.version)] for name, c in solution.chosen.items()},
            )
            for solution in solutions
        ]
        lock = read_lock(write_lock(build_lock(declaration, None, settled, {})))
        for solution in solutions:
            expected = {name: release.version for name, release in solution.chosen.items()}
            for target in solution.target.each:
                found = needed(lock, target, lock.everything, declaration)
                self.assertEqual({item.locked.name: item.locked.version for item in found}, expected)
                self.assertEqual(len(found), len(expected))
            project = needed(lock, solution.target, Selection(), declaration)
            self.assertEqual({item.locked.name for item in project}, self.reached(solution, own[0]))

    @staticmethod
    def reached(solution: Solution, root: str) -> set[str]:
        """What the project's own requirement needs on a target."""
        parts: set[tuple[str, str]] = set()
        waiting = [entry.need for entry in declared(root) if solution.target.admits(entry.need.marker)]
        while waiting:
            need = waiting.pop()
            for part in [(need.name, ""), *((need.name, extra) for extra in need.extras)]:
                if part not in parts:
                    parts.add(part)
                    waiting += solution.needs[part]  # type: ignore[index]
        return {name for name, _ in parts}

    @staticmethod
    def wheel(name: str, version: Version) -> LockedWheel:
        return LockedWheel(
            filename=f"{name}-{version}-py3-none-any.whl", sha256="ab" * 32, url="https://x.example/"
        )
