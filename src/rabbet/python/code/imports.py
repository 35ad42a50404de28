"""Imports of a project's code × its declaration → undeclared, absent, unused and misplaced libraries."""

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from enum import StrEnum
from typing import Literal, NamedTuple, TypeAlias

from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Section
from rabbet.core.model.finding import Weight
from rabbet.core.needs.names import library_name

__all__ = [
    "TEST_GROUPS",
    "Code",
    "ImportCause",
    "ImportFinding",
    "ImportKind",
    "ImportReason",
    "ImportSite",
    "LibraryContents",
    "Role",
    "by_module",
    "import_findings",
    "other_use",
    "owners_of",
    "role_of",
]

Role: TypeAlias = Literal["program", "tests", "beside"]
"""The purpose of code: for users, for tests, or for developers `beside` it, such as documentation."""

_BESIDE_FOLDERS = {
    "doc",
    "docs",
    "example",
    "examples",
    "tool",
    "tools",
    "script",
    "scripts",
    "bench",
    "benchmarks",
}
_BESIDE_FILES = {"noxfile.py"}
TEST_GROUPS = ("tests", "test", "checks", "dev")  # usual names of groups for what tests need
_WEIGHTS = list(Weight)
_SHOWN_NAMES = 3


class ImportKind(StrEnum):
    """The kinds of mismatch between imports and declared libraries."""

    ABSENT = "absent"
    GROUP_ONLY = "group-only"
    UNDECLARED = "undeclared"
    UNUSED = "unused"
    TESTS_ONLY = "tests-only"
    SEVERAL = "several"
    UNREADABLE = "unreadable"


class ImportReason(StrEnum):
    """A cause by its name, as the JSON document tells it."""

    GUARDED = "guarded"
    COMES_WITH = "comes-with"
    BY_HAND = "by-hand"
    COMMANDS = "commands"
    PLUGINS = "plug-ins"
    START_UP = "start-up"
    TYPES = "types"
    NO_MODULES = "no-modules"
    NAMED_IN = "named-in"
    OFFERED_BY = "offered-by"
    INSTALLED = "installed"
    UNREADABLE = "unreadable"


class ImportCause(NamedTuple):
    """Why a finding is one, or what use a library has that is never imported.

    `names` belong to the reason: libraries, commands, plug-ins, files, or why a file can't be read.
    """

    reason: ImportReason
    names: tuple[str, ...] = ()


class ImportSite(NamedTuple):
    """A place where something is imported: the module, what might be modules inside it, the file, the line.

    `guarded`: it may fail, or does not happen in every run.
    """

    module: str
    inside: tuple[str, ...]
    file: str
    line: int
    role: Role
    guarded: bool = False

    @property
    def place(self) -> str:
        """Such as `hivescale/plot.py:3`."""
        return f"{self.file}:{self.line}"


class LibraryContents(Struct, frozen=True, kw_only=True):
    """A library's contents: modules by full name, commands, and plug-ins for others by group.

    Python reads files in `start_up` whenever it starts.
    Of a package without code of its own (PEP 420), which libraries may share, the modules in it count.
    """

    modules: frozenset[str] = frozenset()
    commands: tuple[str, ...] = ()
    plugins: tuple[str, ...] = ()
    start_up: tuple[str, ...] = ()


class Code(Struct, frozen=True, kw_only=True):
    """All that is known of a project's code and of its libraries.

    `declared` are libraries with the sections that name them (`None`: the project itself), `brought_by` the
    declared ones that bring the others, `mentioned` where a library is named in the configuration of tools.
    `standard` are the modules of Python itself, `own` all names of modules and folders in the project,
    wherever they lie: code may find them in ways of its own. Lines of notebooks have `installed` libraries,
    which are the modules of these places. Of files that are `unreadable` the reasons are
    told.
    """

    sites: Sequence[ImportSite]
    libraries: Mapping[NormalizedName, LibraryContents]
    declared: Mapping[NormalizedName, frozenset[Section | None]]
    brought_by: Mapping[NormalizedName, NormalizedName]
    standard: frozenset[str]
    own: frozenset[str] = frozenset()
    installed: Sequence[ImportSite] = ()
    mentioned: Mapping[NormalizedName, ImportCause] = field(default_factory=dict)
    unreadable: Mapping[str, str] = field(default_factory=dict)


class ImportFinding(Struct, frozen=True, kw_only=True):
    """One finding: the library or (where none is known) the module, what is imported of it, and where.

    Its `cause` says why, where the kind does not. `section` is the one that it is declared in, or that fits.
    What only code of `developers` imports is not part of the program.
    """

    kind: ImportKind
    name: str
    weight: Weight
    modules: tuple[str, ...] = ()
    places: tuple[str, ...] = ()
    cause: ImportCause | None = None
    section: Section | None = None
    developers: bool = False


def role_of(path: str) -> Role:
    """The purpose of a file, by its place relative to the project, with forward slashes."""
    *folders, name = path.split("/")
    if {"test", "tests", "testing"} & {*folders} or name == "conftest.py":
        return "tests"
    if name.startswith("test_") or name.endswith("_test.py"):
        return "tests"
    beside = bool(folders) and folders[0] in _BESIDE_FOLDERS
    return "beside" if beside or path in _BESIDE_FILES else "program"


def import_findings(code: Code) -> tuple[ImportFinding, ...]:
    """All findings, the weightiest first."""
    offering = by_module(code.libraries)
    used: dict[NormalizedName, list[ImportSite]] = defaultdict(list)
    absent: dict[str, list[ImportSite]] = defaultdict(list)
    several: dict[str, frozenset[NormalizedName]] = {}
    for site in code.sites:
        top = site.module.partition(".")[0]
        owners = owners_of(site, offering)
        if len(owners) > 1 and top in offering:
            several[top] = frozenset(owners)
        for owner in owners:
            used[owner].append(site)
        if not owners and top not in code.standard and top not in code.own:
            absent[top].append(site)
    found = [
        *_absent(absent),
        *_undeclared(code, used),
        *_installed(code, used),
        *_misplaced(code, used),
        *_unused(code, used),
        *(_shared(module, names) for module, names in several.items()),
        *(_unreadable(file, reason) for file, reason in code.unreadable.items()),
    ]
    return tuple(
        sorted(found, key=lambda finding: (_WEIGHTS.index(finding.weight), finding.kind, finding.name))
    )


def by_module(libraries: Mapping[NormalizedName, LibraryContents]) -> Mapping[str, frozenset[NormalizedName]]:
    """Who offers each module, by its full name."""
    found: defaultdict[str, set[NormalizedName]] = defaultdict(set)
    for name, offered in libraries.items():
        for module in offered.modules:
            found[module].add(name)
    return {module: frozenset(names) for module, names in found.items()}


def owners_of(site: ImportSite, offering: Mapping[str, frozenset[NormalizedName]]) -> set[NormalizedName]:
    """The libraries that an import needs: those that offer the module, or modules inside it."""
    found: set[NormalizedName] = set()
    for name in (site.module, *site.inside):
        parts = name.split(".")
        heads = (".".join(parts[:count]) for count in range(1, len(parts) + 1))
        found |= next((offering[head] for head in heads if head in offering), frozenset())
    return found


def _absent(absent: Mapping[str, Sequence[ImportSite]]) -> Iterator[ImportFinding]:
    """Modules that nothing offers; where each import of it may fail, that is only worth a note."""
    for module, sites in absent.items():
        guarded = all(site.guarded for site in sites)
        beside = all(site.role == "beside" for site in sites)
        yield ImportFinding(
            kind=ImportKind.ABSENT,
            name=module,
            weight=Weight.NOTE if guarded else Weight.DIFFERS if beside else Weight.BREAKS,
            modules=(module,),
            places=_places(sites),
            cause=ImportCause(ImportReason.GUARDED) if guarded else None,
        )


def _undeclared(code: Code, used: Mapping[NormalizedName, Sequence[ImportSite]]) -> Iterator[ImportFinding]:
    """Libraries that are there only because something else brings them."""
    by_hand = ImportCause(ImportReason.BY_HAND)
    for name, sites in used.items():
        if name in code.declared:
            continue
        developers = all(site.role != "program" for site in sites)
        bringing = code.brought_by.get(name)
        sections = code.declared[bringing] if bringing else frozenset()
        groups = [section for section in sections if section is not None and section.kind == "group"]
        yield ImportFinding(
            kind=ImportKind.UNDECLARED,
            name=name,
            weight=Weight.DIFFERS,
            modules=_modules(sites),
            places=_places(sites),
            cause=ImportCause(ImportReason.COMES_WITH, (bringing,)) if bringing else by_hand,
            section=min(groups) if developers and len(groups) == len(sections) and groups else None,
            developers=developers,
        )


def _installed(code: Code, used: Mapping[NormalizedName, Sequence[ImportSite]]) -> Iterator[ImportFinding]:
    """Libraries that lines of notebooks install, each time for whoever runs them, and nobody declares."""
    places: defaultdict[NormalizedName, list[ImportSite]] = defaultdict(list)
    for site in code.installed:
        places[library_name(site.module)].append(site)
    for name, sites in places.items():
        if name not in code.declared and name not in used:
            yield ImportFinding(
                kind=ImportKind.UNDECLARED,
                name=name,
                weight=Weight.DIFFERS,
                places=_places(sites),
                cause=ImportCause(ImportReason.INSTALLED),
                developers=all(site.role != "program" for site in sites),
            )


def _misplaced(code: Code, used: Mapping[NormalizedName, Sequence[ImportSite]]) -> Iterator[ImportFinding]:
    """Libraries of the program that only developers get, and those of tests that users get."""
    for name, sections in code.declared.items():
        sites = used.get(name, ())
        groups = [section for section in sections if section is not None and section.kind == "group"]
        needed = [site for site in sites if site.role == "program" and not site.guarded]
        if needed and len(groups) == len(sections):
            yield ImportFinding(
                kind=ImportKind.GROUP_ONLY,
                name=name,
                weight=Weight.BREAKS,
                modules=_modules(needed),
                places=_places(needed),
                section=min(groups),
            )
        elif sites and sections == {None} and all(site.role == "tests" for site in sites):
            yield ImportFinding(
                kind=ImportKind.TESTS_ONLY,
                name=name,
                weight=Weight.DIFFERS,
                modules=_modules(sites),
                places=_places(sites),
            )


def _unused(code: Code, used: Mapping[NormalizedName, Sequence[ImportSite]]) -> Iterator[ImportFinding]:
    """Declared libraries that are never imported; those with another use are only worth a note."""
    for name, sections in code.declared.items():
        if name in used or name not in code.libraries:
            continue
        use = other_use(code.libraries[name]) or code.mentioned.get(name)
        yield ImportFinding(
            kind=ImportKind.UNUSED,
            name=name,
            weight=Weight.NOTE if use else Weight.DIFFERS,
            cause=use,
            section=min((section for section in sections if section is not None), default=None),
        )


def other_use(offered: LibraryContents) -> ImportCause | None:
    """The use of a library that is never imported; `None` when there is none."""
    if offered.commands:
        return ImportCause(ImportReason.COMMANDS, offered.commands[:_SHOWN_NAMES])
    if offered.plugins:
        return ImportCause(ImportReason.PLUGINS, offered.plugins[:_SHOWN_NAMES])
    if offered.start_up:
        return ImportCause(ImportReason.START_UP, offered.start_up)
    if offered.modules and all(module.endswith("-stubs") for module in offered.modules):
        return ImportCause(ImportReason.TYPES)
    return None if offered.modules else ImportCause(ImportReason.NO_MODULES)


def _shared(module: str, names: frozenset[NormalizedName]) -> ImportFinding:
    return ImportFinding(
        kind=ImportKind.SEVERAL,
        name=module,
        weight=Weight.NOTE,
        modules=(module,),
        cause=ImportCause(ImportReason.OFFERED_BY, tuple(sorted(names))),
    )


def _unreadable(file: str, reason: str) -> ImportFinding:
    cause = ImportCause(ImportReason.UNREADABLE, (reason,))
    return ImportFinding(kind=ImportKind.UNREADABLE, name=file, weight=Weight.NOTE, cause=cause)


def _modules(sites: Sequence[ImportSite]) -> tuple[str, ...]:
    return tuple(sorted({site.module.partition(".")[0] for site in sites}))


def _places(sites: Sequence[ImportSite]) -> tuple[str, ...]:
    return tuple(site.place for site in sorted(sites, key=lambda site: (site.guarded, site.file, site.line)))
