"""What is said of versions that moved, of what differs between locks, and of releases: tables."""

import tomllib
import unittest
from collections.abc import Mapping, Sequence
from pathlib import Path

from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.lock.differences import declared_changes, differences
from rabbet.core.lock.version_changes import build_moves, explained_moves, runtime_moves
from rabbet.core.model.lock import Lock, LockedBuild, LockedLibrary, LockedRuntime, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import solve
from rabbet.formats.project.pyproject import read_declaration
from rabbet.python.choosing.release_overview import offers_of
from rabbet.python.choosing.targets import named_target
from tests.support.catalogue import TARGET, DictProvider

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "moves.toml").read_text())


def lock(entries: Mapping[str, str], builds: tuple[LockedBuild, ...] = ()) -> Lock:
    """A lock of these versions, some of them of runtimes."""
    runtimes = {name: text for name, text in entries.items() if name.startswith("runtime ")}
    return Lock(
        requires_python=None,
        environments=(),
        groups=(),
        fingerprint=None,
        libraries=tuple(library(name, text) for name, text in entries.items() if name not in runtimes),
        runtimes=tuple(
            LockedRuntime(language=name.removeprefix("runtime "), version=Version(text))
            for name, text in runtimes.items()
        ),
        builds=builds,
    )


def library(name: str, text: str) -> LockedLibrary:
    """One library of such a lock."""
    told, _, needs = text.partition(">")
    version, _, digest = told.partition("#")
    wheel = LockedWheel(filename=f"{name}-{version}-py3-none-any.whl", sha256=(digest or "0") * 64, size=1)
    return LockedLibrary(
        name=library_name(name),
        version=Version(version),
        artifacts=(wheel,),
        dependencies=tuple(map(library_name, needs.split())),
    )


def declaration(dependencies: Sequence[str], keys: str = "") -> Declaration:
    """A declaration with these keys of Rabbet's own."""
    text = f"[project]\nname = 'hives'\ndependencies = {dependencies}\n[tool.rabbet]\n{keys}\n"
    return read_declaration(text, folder_name="hives")


class Moves(unittest.TestCase):
    """Between a lock and the next solution."""

    def test_libraries(self) -> None:
        for case in TABLE["move"]:
            declared = declaration(case.get("asked", []), case.get("keys", ""))
            kept = {library_name(name): Version(text) for name, text in case.get("before", {}).items()}
            raised = case.get("raised", "")
            policy = Policy(
                kept={name: (version,) for name, version in kept.items() if name != raised},
                raised=(library_name(raised),) if raised else (),
            )
            provider = DictProvider(TABLE["releases"])
            solution = solve(provider, TARGET, declared.asked(), policy=policy)
            wish = {raised: "raised on purpose"}
            moves = explained_moves(
                kept, solution, declared, provider, intended=lambda name, wish=wish: wish.get(name, "")
            )
            with self.subTest(case):
                told = {move.name: f"{move.before} → {move.after}: {move.reason}" for move in moves}
                self.assertEqual(told, case["moved"])

    def test_runtimes(self) -> None:
        declared = declaration([], 'runtimes = { node = ">=20", java = "" }')
        for case in TABLE["runtime"]:
            before, after = (
                {f"runtime {name}": text for name, text in case.get(key, {}).items()}
                for key in ("before", "after")
            )
            moves = runtime_moves(lock(before) if "before" in case else None, lock(after), declared)
            with self.subTest(case):
                told = {move.name.removeprefix("runtime "): move.reason for move in moves}
                self.assertEqual(told, case["moved"])

    def test_builds(self) -> None:
        """What moved in the environment of a build that was locked before, once for all builds."""

        def build(name: str, version: str, *, own: bool = False) -> LockedBuild:
            made = library("setuptools", version)
            return LockedBuild(name=library_name(name), version=None, requires=(), libraries=(made,), own=own)

        old = lock({}, (build("a", "1.0"), build("b", "1.0"), build("c", "2.0")))
        new = lock({}, (build("a", "2.0"), build("b", "2.0"), build("c", "2.0"), build("d", "2.0")))
        self.assertEqual([build_move.reason for build_move in build_moves(old, new)], ["builds a, b"])
        self.assertEqual(build_moves(None, new), ())
        self.assertEqual(build_moves(lock({}, (build("a", "1.0", own=True),)), new), ())


class Differences(unittest.TestCase):
    """Between two locks, with what was declared for each."""

    def test_table(self) -> None:
        needs = {"combframe": ["tallywax>=2"], "skepio": ["combframe"]}
        for case in TABLE["difference"]:
            was, now = map(declaration, case.get("asked", [[], []]), case.get("keys", ["", ""]))
            found = differences(
                lock(case.get("old", {})),
                lock(case.get("new", {})),
                declared_changes(was, now),
                lambda one: map(Need.parse, needs.get(one.name, ())),
                now,
            )
            with self.subTest(case):
                self.assertEqual(
                    {offer.name: f"{offer.kind}: {offer.cause}" for offer in found}, case["told"]
                )
                for side, key in (("before", "old"), ("after", "new")):
                    versions = {
                        offer.name: [str(version) for version in getattr(offer, side)] for offer in found
                    }
                    known = {
                        name: [text.split(">")[0].split("#")[0]] for name, text in case.get(key, {}).items()
                    }
                    self.assertEqual(versions, {name: known.get(name, []) for name in versions})
        self.assertEqual(declared_changes(None, declaration(["skepio"])), ())


class Releases(unittest.TestCase):
    """Which target can use which release."""

    def test_overview(self) -> None:
        here, newer = (named_target("linux-x86_64", python, {}) for python in ("3.10", "3.12"))
        files = tuple(
            ListedFile(
                filename=f"skepio-{version}-{tag}.whl",
                name=library_name("skepio"),
                version=Version(version),
                build=(0, ""),
                tags=frozenset({tag}),
                location="",
                source="s",
                uploaded=f"2026-0{version[0]}-02T10:00:00Z",
                requires_python=python or None,
                yanked=yanked,
            )
            for version, tag, python, yanked in (
                ("1.0", "py3-none-any", "", None),
                ("2.0", "py3-none-any", ">=3.11", None),
                ("3.0", "cp312-cp312-macosx_12_0_arm64", "", None),
                ("4.0", "py3-none-any", "", "no wax"),
            )
        )
        listing = Listing(name=library_name("skepio"), source="s", files=files)
        found = offers_of(
            listing, [here, newer], needs=[Need.parse("skepio<3")], locked={Version("1.0")}, policy=Policy()
        )
        self.assertEqual(
            [
                (
                    str(offer.version),
                    len(offer.serves),
                    offer.allowed,
                    offer.locked,
                    offer.yanked,
                    bool(offer.refused),
                )
                for offer in found
            ],
            [
                ("4.0", 2, False, False, "no wax", False),
                ("3.0", 0, False, False, None, True),
                ("2.0", 1, True, False, None, True),
                ("1.0", 2, True, True, None, False),
            ],
        )
        self.assertEqual([offer.systems for offer in found], [("any",), ("macos",), ("any",), ("any",)])
        self.assertEqual([offer.uploaded[5:7] for offer in found], ["04", "03", "02", "01"])
        self.assertEqual([offer.python for offer in found], ["", "", ">=3.11", ""])
