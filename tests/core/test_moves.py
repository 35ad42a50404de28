"""What is said of versions that moved, of what differs between locks, and of releases: tables."""

import unittest

from packaging.version import Version

from rabbet.core.lock.differences import declared_changes, differences
from rabbet.core.lock.release_overview import offers_of
from rabbet.core.lock.version_changes import build_moves, explained_moves, runtime_moves
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock, LockedBuild, LockedLibrary, LockedRuntime, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.needs.need import Need, library_name
from rabbet.core.solve.policy import Policy
from rabbet.core.solve.solver import solve
from rabbet.core.targets import named_target
from rabbet.formats.pyproject import read_declaration
from tests.support.catalogue import TARGET, DictProvider

RELEASES = {
    "combframe": {"1.0": [], "2.0": ["tallywax>=2"], "3.0!": []},
    "tallywax": {"1.0": [], "2.0": []},
    "skepio": {"1.0": ["combframe<2"], "2.0": ["combframe"]},
    "hivewire": {"1.0": ["broken"], "2.0": []},
}
# before, declared, keys of Rabbet, intended for, what moved and why
MOVES = [
    ({}, ["tallywax"], "", "", {"tallywax": "None → 2.0: hives needs tallywax"}),
    ({"tallywax": "1.0"}, ["tallywax>=2"], "", "", {"tallywax": "1.0 → 2.0: hives needs tallywax>=2"}),
    ({"tallywax": "1.0", "skepio": "1.0"}, ["tallywax"], "", "", {"skepio": "1.0 → None: no longer needed"}),
    ({"tallywax": "1.0"}, [], 'without = ["tallywax"]', "", {"tallywax": "1.0 → None: hives keeps it out"}),
    (
        {"tallywax": "1.0"},
        ["combframe>1"],
        "",
        "",
        {
            "combframe": "None → 2.0: hives needs combframe>1",
            "tallywax": "1.0 → 2.0: combframe 2.0 needs tallywax>=2",
        },
    ),
    (
        {"tallywax": "1.0"},
        ["tallywax"],
        'limits = ["tallywax>1"]',
        "",
        {"tallywax": "1.0 → 2.0: hives sets the limit tallywax>1"},
    ),
    ({"tallywax": "1.0"}, ["tallywax"], "", "tallywax", {"tallywax": "1.0 → 2.0: raised on purpose"}),
    (
        {"skepio": "1.0", "combframe": "1.0", "tallywax": "2.0"},
        ["skepio", "combframe>=2"],
        "",
        "",
        {
            "combframe": "1.0 → 2.0: hives needs combframe>=2",
            "skepio": "1.0 → 2.0: skepio 1.0 needs combframe<2, chosen is 2.0",
        },
    ),
    (
        {"hivewire": "1.0"},
        ["hivewire"],
        "",
        "",
        {"hivewire": "1.0 → 2.0: 1.0 can't be used: its metadata can't be read"},
    ),
    (
        {"hivewire": "0.9"},
        ["hivewire"],
        "",
        "",
        {"hivewire": "0.9 → 2.0: 0.9 is not offered for this target"},
    ),
    (
        {"tallywax": "1.0"},
        ["tallywax; os_name == 'nt'"],
        "",
        "",
        {"tallywax": "1.0 → None: no longer needed"},
    ),
]


def lock(
    libraries: dict[str, str], runtimes: dict[str, str] | None = None, builds: tuple[LockedBuild, ...] = ()
) -> Lock:
    """A lock of versions; behind a `>` stands what a library needs, behind a `#` its file's digest."""
    return Lock(
        requires_python=None,
        environments=(),
        groups=(),
        fingerprint=None,
        libraries=tuple(library(name, text) for name, text in libraries.items()),
        runtimes=tuple(
            LockedRuntime(language=language, version=Version(version))
            for language, version in (runtimes or {}).items()
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


def declaration(dependencies: list[str], keys: str = "") -> Declaration:
    """A declaration with these keys of Rabbet's own."""
    text = f"[project]\nname = 'hives'\ndependencies = {dependencies}\n[tool.rabbet]\n{keys}\n"
    return read_declaration(text, folder_name="hives")


class Moves(unittest.TestCase):
    """Between a lock and the next solution."""

    def test_libraries(self) -> None:
        for before, asked, keys, intended, expected in MOVES:
            declared = declaration(asked, keys)
            kept = {library_name(name): Version(version) for name, version in before.items()}
            policy = Policy(
                kept={name: (version,) for name, version in kept.items() if name != intended},
                raised=(library_name(intended),) if intended else (),
            )
            provider = DictProvider(RELEASES)
            solution = solve(provider, TARGET, declared.asked(), policy=policy)
            moves = explained_moves(
                kept,
                solution,
                declared,
                provider,
                intended=lambda name, wanted=intended: "raised on purpose" if name == wanted else "",
            )
            told = {one.name: f"{one.before} → {one.after}: {one.reason}" for one in moves}
            with self.subTest(before=before, asked=asked, keys=keys):
                self.assertEqual(told, expected)

    def test_runtimes(self) -> None:
        declared = declaration([], 'runtimes = { node = ">=20", java = "" }')
        for before, after, expected in (
            (None, {"node": "20.1"}, ["node: hives needs >=20"]),
            ({"node": "18.0"}, {"node": "20.1"}, ["node: hives needs >=20"]),
            ({"node": "20.0"}, {"node": "20.1"}, ["node: raised"]),
            ({"node": "20.0"}, {"node": "20.0"}, []),
            ({"lua": "5.4"}, {"node": "20.1"}, ["lua: no longer needed", "node: hives needs >=20"]),
            ({}, {"lua": "5.4", "java": "17"}, ["java: hives needs it", "lua: another runtime needs it"]),
            ({"python": "3.11"}, {"python": "3.12"}, []),
        ):
            with self.subTest(before=before, after=after):
                moves = runtime_moves(
                    lock({}, before) if before is not None else None, lock({}, after), declared
                )
                told = [f"{one.name.removeprefix('runtime ')}: {one.reason}" for one in moves]
                self.assertEqual(told, expected)

    def test_builds(self) -> None:
        """What moved in the environment of a build that was locked before, once for all builds."""

        def build(name: str, version: str, *, own: bool = False) -> LockedBuild:
            made = library("setuptools", version)
            return LockedBuild(name=library_name(name), version=None, requires=(), libraries=(made,), own=own)

        old = lock({}, builds=(build("a", "1.0"), build("b", "1.0"), build("c", "2.0")))
        new = lock({}, builds=(build("a", "2.0"), build("b", "2.0"), build("c", "2.0"), build("d", "2.0")))
        self.assertEqual([one.reason for one in build_moves(old, new)], ["builds a, b"])
        self.assertEqual(build_moves(None, new), ())
        self.assertEqual(build_moves(lock({}, builds=(build("a", "1.0", own=True),)), new), ())


class Differences(unittest.TestCase):
    """Between two locks, with what was declared for each."""

    def test_table(self) -> None:
        needs = {"combframe": ["tallywax>=2"], "skepio": ["combframe"]}
        for old, new, before, after, expected in (
            (
                {"skepio": "1.0"},
                {"skepio": "2.0"},
                ["skepio"],
                ["skepio>1"],
                {"skepio": "raised: declared: skepio → skepio>1"},
            ),
            ({}, {"skepio": "2.0"}, [], ["skepio"], {"skepio": "added: declared: skepio"}),
            ({"skepio": "2.0"}, {}, ["skepio"], [], {"skepio": "removed: retracted: skepio"}),
            (
                {"skepio": "2.0"},
                {"skepio": "1.0"},
                ["skepio"],
                ["skepio"],
                {"skepio": "lowered: chosen anew"},
            ),
            (
                {"tallywax": "1.0"},
                {"combframe": "2.0>tallywax", "tallywax": "2.0"},
                [],
                ["combframe"],
                {
                    "combframe": "added: declared: combframe",
                    "tallywax": "raised: combframe 2.0 needs tallywax>=2",
                },
            ),
            (
                {"skepio": "1.0>hivewire", "hivewire": "1.0"},
                {"skepio": "2.0>hivewire", "hivewire": "2.0"},
                ["skepio"],
                ["skepio>1"],
                {
                    "skepio": "raised: declared: skepio → skepio>1",
                    "hivewire": "raised: needed by skepio (declared: skepio → skepio>1)",
                },
            ),
            (
                {"skepio": "1.0>hivewire", "hivewire": "1.0"},
                {"skepio": "2.0>hivewire", "hivewire": "2.0"},
                [],
                [],
                {"skepio": "raised: chosen anew", "hivewire": "raised: needed by skepio (raised too)"},
            ),
            (
                {"skepio": "1.0#a"},
                {"skepio": "1.0#b"},
                [],
                [],
                {"skepio": "files: other files of the same release"},
            ),
            ({"skepio": "1.0#a"}, {"skepio": "1.0#a"}, [], ["skepio"], {}),
        ):
            was, now = declaration(before), declaration(after)
            found = differences(
                lock(old),
                lock(new),
                declared_changes(was, now),
                lambda one: map(Need.parse, needs.get(one.name, ())),
                now,
            )
            with self.subTest(old=old, new=new):
                self.assertEqual({one.name: f"{one.kind}: {one.cause}" for one in found}, expected)
        self.assertEqual(declared_changes(None, declaration(["skepio"])), ())

    def test_wishes(self) -> None:
        """What is kept out, limited, or another Python explains what nobody's requirement does."""
        for keys, expected in (
            ('without = ["skepio"]', "hives keeps it out"),
            ('limits = ["skepio>1"]', "hives sets the limit skepio>1"),
            ('runtimes = { python = ">=3.12" }', "declared: python>=3.12"),
        ):
            now = declaration([], keys)
            new = {} if "without" in keys else {"skepio": "2.0"}
            found = differences(
                lock({"skepio": "1.0"}), lock(new), declared_changes(declaration([]), now), lambda _: (), now
            )
            with self.subTest(keys):
                self.assertEqual([one.cause for one in found], [expected])

    def test_runtimes(self) -> None:
        was, now = (
            declaration([], 'runtimes = { node = ">=18" }'),
            declaration([], 'runtimes = { node = ">=20" }'),
        )
        found = differences(
            lock({}, {"node": "18.0", "lua": "5.4", "python": "3.11"}),
            lock({}, {"node": "20.0", "java": "17", "python": "3.10"}),
            declared_changes(was, now),
            lambda _: (),
            now,
        )
        told = {one.name.removeprefix("runtime "): f"{one.kind}: {one.cause}" for one in found}
        self.assertEqual(
            told,
            {
                "java": "added: chosen anew",
                "lua": "removed: chosen anew",
                "node": "raised: declared: node>=18 → node>=20",
                "python": "lowered: chosen anew",
            },
        )


class Releases(unittest.TestCase):
    """Which target can use which release."""

    def test_overview(self) -> None:
        here, newer = (named_target("linux-x86_64", python, {}) for python in ("3.10", "3.12"))

        def file(
            version: str, tag: str = "py3-none-any", *, python: str = "", yanked: str | None = None
        ) -> ListedFile:
            return ListedFile(
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

        files = (
            file("1.0"),
            file("2.0", python=">=3.11"),
            file("3.0", "cp312-cp312-macosx_12_0_arm64"),
            file("4.0", yanked="no wax"),
        )
        listing = Listing(name=library_name("skepio"), source="s", files=files)
        found = offers_of(listing, [here, newer], needs=[Need.parse("skepio<3")], locked={Version("1.0")})
        told = {
            str(one.version): (
                len(one.serves),
                one.allowed,
                one.locked,
                one.yanked,
                one.systems,
                one.uploaded,
                one.python,
            )
            for one in found
        }
        self.assertEqual(
            told,
            {
                "4.0": (2, False, False, "no wax", ("any",), "2026-04-02", ""),
                "3.0": (0, False, False, None, ("macos",), "2026-03-02", ""),
                "2.0": (1, True, False, None, ("any",), "2026-02-02", ">=3.11"),
                "1.0": (2, True, True, None, ("any",), "2026-01-02", ""),
            },
        )
        refused = {str(one.version): bool(one.refused) for one in found}
        self.assertEqual(refused, {"4.0": False, "3.0": True, "2.0": True, "1.0": False})
