"""Findings, weights and plans, from a table."""

import random
import tomllib
import unittest
from collections.abc import Mapping
from functools import partial
from pathlib import Path

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.drift.checks.project import Surroundings
from rabbet.core.drift.compare import compare as compared
from rabbet.core.drift.expected import Expectation, OtherRuntime, VersionOnly
from rabbet.core.drift.mends import mends_of
from rabbet.core.drift.plan import plan_changes, reason_to_rebuild
from rabbet.core.drift.stories import stories
from rabbet.core.model.cause import Installation, SecondCopy, Shadow
from rabbet.core.model.finding import Kind, Subject, Weight
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import LockedLibrary, LockedRuntime, LockedWheel, Needed, Selection
from rabbet.core.model.release import Metadata
from rabbet.core.model.runtime import Runtime
from rabbet.core.needs.names import library_name
from rabbet.python.checks import PYTHON_CHECKS, bound_to_minor
from tests.support import chance
from tests.support.catalogue import TARGET, requirement

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "drift.toml").read_text())

NAMES = ["nectarplot", "combframe", "honeyflow", "tallywax"]

compare = partial(compared, of_language=PYTHON_CHECKS)


def wheel(name: str, version: str, tags: str = "py3-none-any") -> LockedWheel:
    """A made-up wheel whose hash stands for its name and version."""
    return LockedWheel(filename=f"{name}-{version}-{tags}.whl", sha256=f"{name}-{version}", url="")


def needed(entry: dict) -> Needed:
    """A line of the table's lock."""
    library = LockedLibrary(
        name=library_name(entry["name"]),
        version=Version(entry["version"]),
        artifacts=(wheel(entry["name"], entry["version"], entry.get("tags", "py3-none-any")),),
        dependencies=tuple(library_name(name) for name in entry.get("needs", [])),
    )
    return Needed(locked=library, artifact=library.wheels[0])


def installed(entry: dict) -> Installed:
    """A line of a case's inventory."""
    name, version = library_name(entry["name"]), Version(entry["version"])
    return Installed(
        name=name,
        version=version,
        folder=f"{name}-{version}.dist-info",
        metadata=Metadata(
            name=name,
            version=version,
            requires_python=SpecifierSet(entry.get("for_python", "")),
            needs=tuple(requirement(text) for text in entry.get("needs", [])),
            extras=frozenset(),
        ),
        wheel_sha256=entry.get("wheel", f"{name}-{version}"),
        installation=Installation(installer="handy") if entry.get("by_hand") else None,
        recorded=not entry.get("unrecorded"),
        altered=tuple(entry.get("altered", [])),
        gone=tuple(entry.get("gone", [])),
    )


class Drift(unittest.TestCase):
    """Each case: what is installed in place of what is locked, the findings, and the plan that mends them."""

    def test_table(self) -> None:
        lock = [needed(entry) for entry in TABLE["lock"]]
        whole = [installed(entry) for entry in TABLE["installed"]]
        for case in TABLE["case"]:
            with self.subTest(case["title"]):
                gone = set(case.get("without", []))
                there = [library for library in whole if library.name not in gone] + [
                    installed(e) for e in case.get("with", [])
                ]
                libraries: dict = {}
                twins = tuple(
                    installed
                    for installed in there
                    if libraries.setdefault(installed.name, installed) is not installed
                )
                inventory = self.inventory(libraries, twins, case.get("python", "3.12.1"), case)
                found = compare(self.wanted(lock), inventory)
                shown = [
                    f"{finding.kind} {finding.name} {finding.weight} {','.join(finding.breaks)}".strip()
                    for finding in found
                ]
                self.assertEqual(shown, case["findings"])
                steps = plan_changes(lock, inventory, found).steps
                self.assertEqual(
                    [f"{step.action} {step.name}" for step in steps if step.action != "keep"], case["plan"]
                )
                told = [
                    f"{story.cause.name}: {','.join(library.name for library in story.along)}"
                    for story in stories(found)
                ]
                self.assertEqual(told, case.get("stories", []))
                mends = case.get("mends", ["recreate"] if case["plan"] else [])
                self.assertEqual(sorted(mends_of(found)), mends)

    def test_nothing_is_untold(self) -> None:
        """Whatever is installed: everybody whose requirement is not met stands in some finding."""
        lock, dice = [needed(entry) for entry in TABLE["lock"]], chance.dice(12)
        for _ in range(300):
            there = [installed(self.any_release(dice, name)) for name in NAMES if dice.random() < 0.8]
            libraries = {installed.name: installed for installed in there}
            found = compare(self.wanted(lock), self.inventory(libraries))
            idle = not reason_to_rebuild(found) and plan_changes(lock, self.inventory(libraries), found).idle
            mended = [finding for finding in found if finding.locked or finding.kind is Kind.SURPLUS]
            self.assertEqual(idle, not mended, (there, found))
            told = {name for finding in found for name in finding.breaks}
            for one in there:
                for need in one.metadata.needs if one.metadata else ():
                    other = libraries.get(library_name(need.name))
                    if other is None or not need.specifier.contains(other.version):
                        self.assertIn(one.name, told, (there, found))

    def test_other_runtimes(self) -> None:
        """A runtime of another language: none fits, another one is linked, or its version is another."""
        for locked, chosen, linked, weight in (
            ("2.1", ("2.1", "/a"), "/a", None),
            ("2.1", ("2.2", "/a"), "/a", Weight.NOTE),
            ("2.1", ("2.1", "/b"), "/a", Weight.DIFFERS),
            ("2.1", ("2.1", "/a"), None, Weight.DIFFERS),
            ("2.1", None, "/a", Weight.BREAKS),
            (None, None, "/a", Weight.DIFFERS),
        ):
            with self.subTest(chosen=chosen, linked=linked):
                version, executable = chosen or ("0", "")
                runtime = Runtime(language="waggle", version=Version(version), executable=executable)
                other = OtherRuntime(
                    language="waggle", locked=Version(locked or "0"), chosen=runtime if chosen else None
                )
                wanted = replace(self.wanted([]), needs=(), others=(other,) if locked else ())
                inventory = replace(self.inventory({}), runtimes={"waggle": linked} if linked else {})
                found = compare(wanted, inventory)
                self.assertEqual([finding.weight for finding in found], [weight] if weight else [])
                self.assertEqual(reason_to_rebuild(found) is None, weight in (None, Weight.NOTE))

    def test_one_name_for_two(self) -> None:
        """A library that is called like a language, or like Python, is another thing than its runtime."""
        for name in ("waggle", "python"):
            entry = {"name": name, "version": "1.0"}
            runtime = Runtime(language="waggle", version=Version("2.2"), executable="/a")
            other = OtherRuntime(language="waggle", locked=Version("2.1"), chosen=runtime)
            wanted = replace(self.wanted([needed(entry)]), needs=(), others=(other,))
            inventory = replace(self.inventory({name: installed(entry)}), runtimes={"waggle": "/a"})
            found = compare(wanted, inventory)
            with self.subTest(name):
                self.assertEqual([finding.subject for finding in found], [Subject.runtime("waggle")])
                self.assertTrue(plan_changes(wanted.needed, inventory, found).idle)
        unmet = replace(self.inventory({}), runtimes={})
        missing = compare(replace(self.wanted([]), needs=(requirement("python>=2"),)), unmet)
        self.assertEqual(
            [(finding.kind, finding.subject) for finding in missing],
            [(Kind.MISSING, Subject.library("python"))],
        )

    def test_versions_alone(self) -> None:
        """Against what is installed elsewhere: which names and versions differ, and nothing else."""
        dice = chance.dice(13)
        for _ in range(200):
            there, here = (
                [installed(self.any_release(dice, name)) for name in NAMES if dice.random() < 0.8]
                for _ in range(2)
            )
            here = [replace(library, tags=frozenset(["cp38-abi3-linux_x86_64"])) for library in here]
            locked = [LockedLibrary(name=installed.name, version=installed.version) for installed in there]
            wanted = replace(
                self.wanted([]),
                needed=tuple(map(VersionOnly, locked)),
                origins_known=False,
                is_installed=True,
            )
            found = compare(wanted, self.inventory({library.name: library for library in here}))
            before, after = ({(library.name, library.version) for library in some} for some in (there, here))
            self.assertEqual({finding.name for finding in found}, {name for name, _ in before ^ after})

    def test_second_copy(self) -> None:
        """A second copy tells who installed that one, not the first."""
        entry = TABLE["installed"][1]
        there = {library.name: library for library in map(installed, TABLE["installed"])}
        twin = installed({**entry, "version": "2.0", "by_hand": True})
        lock = [needed(line) for line in TABLE["lock"]]
        found = compare(self.wanted(lock), self.inventory(there, (twin,)))
        self.assertEqual(
            [finding.cause for finding in found], [SecondCopy(installation=Installation(installer="handy"))]
        )

    def test_surroundings(self) -> None:
        """What is seen around an environment is told where it is looked at, and only there."""
        lock = [needed(entry) for entry in TABLE["lock"]]
        combframe = next(item for item in lock if item.locked.name == "combframe")
        withdrawn = replace(combframe, locked=replace(combframe.locked, yanked="wax"))
        there = self.inventory({library.name: library for library in map(installed, TABLE["installed"])})
        shadow = Shadow(
            library=combframe.locked.name, version=Version("2.1"), module="comb", file="comb.py", project=True
        )
        for around, whole, expected in (
            (Surroundings(), lock, []),
            (Surroundings(outdated=True), lock, ["unresolved hivescale differs"]),
            (Surroundings(edited=("combframe",)), lock, ["unresolved combframe note"]),
            (Surroundings(stale=("Containerfile",)), lock, ["stale Containerfile note"]),
            (Surroundings(made_here=False), lock, ["altered (environment) differs"]),
            (Surroundings(shadows=(shadow,)), lock, ["origin combframe differs"]),
            (Surroundings(), [withdrawn, *lock[:1], *lock[2:]], ["version combframe note"]),
        ):
            with self.subTest(expected):
                self.assertEqual(compare(self.wanted(whole), there), ())
                found = compare(self.wanted(whole), there, around)
                self.assertEqual(
                    [f"{finding.kind} {finding.name} {finding.weight}" for finding in found], expected
                )

    def test_who_brought_it(self) -> None:
        """What came in by hand was brought by what is not locked, or is there in another version."""
        lock = [needed(entry) for entry in TABLE["lock"]]
        by_hand = [
            {"name": "combframe", "version": "2.0", "by_hand": True},
            {"name": "honeyflow", "version": "1.1", "by_hand": True, "needs": ["tallywax", "combframe"]},
            {"name": "skepio", "version": "1.0", "by_hand": True, "needs": ["tallywax; os_name == 'nt'"]},
            {"name": "smokerlog", "version": "1.0", "by_hand": True, "needs": ["tallywax", "smokerlog"]},
            {"name": "tallywax", "version": "1.0", "by_hand": True},
        ]
        there = {library.name: library for library in map(installed, [*TABLE["installed"], *by_hand])}
        found = {
            finding.name: finding.by_hand.needed_by
            for finding in compare(self.wanted(lock), self.inventory(there))
        }
        self.assertEqual(
            {name: list(who) for name, who in found.items()},
            {
                "combframe": ["honeyflow"],
                "honeyflow": [],
                "skepio": [],
                "smokerlog": [],
                "tallywax": ["honeyflow", "smokerlog"],
            },
        )

    @staticmethod
    def any_release(dice: random.Random, name: str) -> dict:
        """Some release with some needs, as a line of the table."""
        bounds = ["", ">=2", "<2", ">=1.1"]
        needs = [dice.choice(NAMES) + dice.choice(bounds) for _ in range(dice.randint(0, 2))]
        return {"name": name, "version": dice.choice(["1.0", "1.2", "2.1"]), "needs": needs}

    @staticmethod
    def inventory(
        libraries: dict, twins: tuple[Installed, ...] = (), python: str = "3.12.1", more: Mapping = {}
    ) -> Inventory:
        groups = more.get("groups")
        return Inventory(
            python=Version(python),
            implementation="cpython",
            libraries=libraries,
            twins=twins,
            strays=tuple(more.get("strays", [])),
            put_there=frozenset(more.get("put_there", [])),
            lock_stamp=more.get("made_from", "today's"),
            selection=None if groups is None else Selection(frozenset(groups)),
        )

    @staticmethod
    def wanted(lock: list[Needed]) -> Expectation:
        """The project, its requirements and its lock."""
        return Expectation(
            project="hivescale",
            python=SpecifierSet(">=3.11"),
            needs=tuple(requirement(text) for text in TABLE["requirements"]),
            runtime=LockedRuntime(language="python", version=Version("3.12.1"), distributor="cpython"),
            needed=tuple(lock),
            bound_to_minor=bound_to_minor(lock),
            target=TARGET,
            lock_stamp="today's",
            everything=Selection(frozenset(["checks"])),
        )
