"""The declaration's content: the runtimes, libraries and sources that a project declares."""

import hashlib
import json
from collections.abc import Iterator, Mapping
from typing import Literal

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.keys import KEYS
from rabbet.core.model.build import BuildOptions, BuildSystem, Told
from rabbet.core.model.language import Language
from rabbet.core.model.target import LATEST_PATCH
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.rules.model import RuleSet

__all__ = [
    "CatalogueEntry",
    "CensusEntry",
    "Correction",
    "Declaration",
    "Declared",
    "DeclaredRuntime",
    "ExpectEntry",
    "Section",
    "SourceEntry",
    "Variant",
    "allows_minor",
]


class SourceEntry(Struct, frozen=True, kw_only=True):
    """A place where releases are listed: the address of an index, or a folder of wheels.

    `mirrors` are addresses of indexes that list the same; they are asked, in order, where it fails.
    `only` are names or patterns of libraries: these come from here and nowhere else, and no others do. The
    listings of an index that does not say how long they are fresh are so for `fresh_for` seconds.
    """

    name: str
    url: str
    only: tuple[str, ...] = ()
    fresh_for: int = 0
    mirrors: tuple[str, ...] = ()

    @property
    def facts(self) -> list[str]:
        """The parts that affect a lock: the same, whichever mirror answers."""
        return [self.name, self.url, *sorted(self.only)]


class Section(Struct, frozen=True, order=True):
    """A part of the declaration with requirements of its own, by its normalized name.

    `kind` is `group` (PEP 735) or `extra` (the optional dependencies of PEP 621); a named `variant` counts as
    one where a declaration's text is changed.
    """

    kind: Literal["extra", "group", "variant"]
    name: str

    def __str__(self) -> str:
        """Such as `group checks`."""
        return f"{self.kind} {self.name}"

    @property
    def marker(self) -> str:
        """The marker that holds where this section is installed (PEP 751)."""
        return f"'{self.name}' in {'extras' if self.kind == 'extra' else 'dependency_groups'}"


class Declared(Struct, frozen=True, kw_only=True):
    """One requirement and the section that makes it (`None`: the project itself).

    A `limit` asks for nothing, but bounds a library that others ask for.
    """

    need: Need
    section: Section | None = None
    limit: bool = False


class Correction(Struct, frozen=True, kw_only=True):
    """A correction of releases' metadata: requirements on libraries in `drop` go, those in `add` come."""

    applies_to: Need
    drop: frozenset[NormalizedName] = frozenset()
    add: tuple[Need, ...] = ()

    def __str__(self) -> str:
        """Such as `nectarplot==2.1: without combframe, with combframe>=2`."""
        parts = [f"without {name}" for name in sorted(self.drop)] + [f"with {need}" for need in self.add]
        return f"{self.applies_to}: {', '.join(parts)}"


class CatalogueEntry(Struct, frozen=True, kw_only=True):
    """A catalogue of runtimes: its name, and an address or a path relative to the project's folder.

    One that is a `registry` is that of the JavaScript world.
    """

    name: str
    url: str
    registry: bool = False


class ExpectEntry(Struct, frozen=True, kw_only=True):
    """What is expected of the team's machines beyond the lock.

    Each is at most so many lock revisions `behind` (`None`: any number), and each that has one of the
    `libraries` has it in such a version.
    """

    behind: int | None = None
    libraries: tuple[Need, ...] = ()


class CensusEntry(Struct, frozen=True, kw_only=True):
    """When inventories are sent by themselves (after each `recreate`; empty: never), and through what.

    What fits one of the patterns in `leave_out` is in none of them. Each has these `tags`.
    """

    every: str = ""
    remote: str | None = None
    leave_out: tuple[str, ...] = ()
    expect: ExpectEntry = ExpectEntry()
    tags: Mapping[str, str] = field(default_factory=dict)


class DeclaredRuntime(Struct, frozen=True, kw_only=True):
    """The versions that a project allows of a language, who makes them (empty: anybody), and what they need.

    The `needs` are versions of other languages.
    """

    language: str
    versions: SpecifierSet
    distributor: str = ""
    needs: Mapping[str, SpecifierSet] = field(default_factory=dict)

    def __str__(self) -> str:
        """The entry in short; the same for the same content."""
        needs = (f"{language}{versions}" for language, versions in sorted(self.needs.items()))
        parts = [f"{self.language}{self.versions}", self.distributor and f"of {self.distributor}", *needs]
        return " ".join(part for part in parts if part)


class Variant(Struct, frozen=True, kw_only=True):
    """A named variant's additions to a declaration: a constraint on Python, and requirements.

    Its `runtimes` of other languages stand in for the project's of the same languages.
    """

    python: SpecifierSet
    needs: tuple[Need, ...]
    runtimes: tuple[DeclaredRuntime, ...] = ()


class Declaration(Struct, frozen=True, kw_only=True):
    """A project's declaration.

    `groups` and `extras` are by normalized names, with what they include of each other put in place.
    `variants` each get a lock of their own. `local` are folders of checkouts that stand in for published
    releases, and `build_from_source` the libraries whose build may run their code. `targets` are names of
    platforms and `pythons` versions such as `3.12` that the lock must serve; empty: those of the machine that
    resolves. `baselines` are the oldest `glibc`, `macos` and `musl` among them. Each target gets the newest
    releases that it can have, or all get the `same_versions` where they can. Nothing uploaded later than
    `as_of` (a date) is taken. `limits` bound libraries that only come along, those in `without` never come
    in, and `corrections` mend what releases say of their needs. `runtimes` are those of other languages than
    Python; `languages` tells of some that Rabbet does not know, and `catalogues` where runtimes can be had.
    `rules` say what a lock may hold.
    The project's own `version` is `None` where it is not written down: some leave it to their build
    (`dynamic`). Of distributions it needs packages of the `system`, and its builds need some more. One with a
    `build_system` can be installed itself. The `builds` of some libraries have options, and `team_builds` are
    places that hold wheels which teammates built. The project and checkouts are `editable` where they lie, or
    built as wheels. The keys of `[project]` in `by_build` are left to its build; they hold what that `told`,
    and are empty until it was asked.
    """

    name: str
    python: SpecifierSet
    needs: tuple[Need, ...]
    groups: Mapping[str, tuple[Need, ...]]
    sources: tuple[SourceEntry, ...]
    extras: Mapping[str, tuple[Need, ...]] = field(default_factory=dict)
    variants: Mapping[str, Variant] = field(default_factory=dict)
    local: Mapping[NormalizedName, str] = field(default_factory=dict)
    build_from_source: frozenset[NormalizedName] = frozenset()
    targets: tuple[str, ...] = ()
    pythons: tuple[str, ...] = ()
    baselines: Mapping[str, str] = field(default_factory=dict)
    same_versions: bool = False
    as_of: str | None = None
    limits: tuple[Need, ...] = ()
    without: frozenset[NormalizedName] = frozenset()
    corrections: tuple[Correction, ...] = ()
    runtimes: tuple[DeclaredRuntime, ...] = ()
    languages: Mapping[str, Language] = field(default_factory=dict)
    catalogues: tuple[CatalogueEntry, ...] = ()
    census: CensusEntry = field(default_factory=CensusEntry)
    rules: RuleSet | None = None
    system: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    system_for_builds: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    version: Version | None = None
    dynamic: bool = False
    build_system: BuildSystem | None = None
    builds: Mapping[NormalizedName, BuildOptions] = field(default_factory=dict)
    team_builds: tuple[SourceEntry, ...] = ()
    editable: bool = True
    by_build: frozenset[str] = frozenset()
    told: Told | None = None

    def declared(self) -> Iterator[Declared]:
        """All requirements with the group that makes them, the project's own first."""
        for need in self.needs:
            yield Declared(need=need)
        for section, needs in self.sections.items():
            for need in needs:
                yield Declared(need=need, section=section)

    def asked(self) -> list[Declared]:
        """All that solving has to heed: the requirements, and the limits."""
        return [*self.declared(), *(Declared(need=limit, limit=True) for limit in self.limits)]

    @property
    def sections(self) -> Mapping[Section, tuple[Need, ...]]:
        """All groups and extras with what they require."""
        extras = {Section("extra", name): needs for name, needs in sorted(self.extras.items())}
        return extras | {Section("group", name): needs for name, needs in sorted(self.groups.items())}

    def varied(self, name: str) -> "Declaration":
        """The declaration as this variant of it sees it; of the versions to serve, those that it allows."""
        variant = self.variants[name]
        python = self.python & variant.python
        own = {runtime.language for runtime in variant.runtimes}
        return replace(
            self,
            python=python,
            needs=(*self.needs, *variant.needs),
            runtimes=(
                *(runtime for runtime in self.runtimes if runtime.language not in own),
                *variant.runtimes,
            ),
            variants={},
            pythons=tuple(minor for minor in self.pythons if allows_minor(python, minor)),
        )

    def fingerprint(self) -> str:
        """A digest of all that bears on the lock, and of nothing else (order and comments do not).

        A field counts unless it is named here as one that does not; one that is not set leaves no trace, so
        that a lock stays up to date when declarations get a new field.
        """
        fields = (name for name in self.__struct_fields__ if name not in _NOT_ON_LOCK)
        content = {name: getattr(self, name) for name in fields}
        content = {name: value for name, value in content.items() if value != getattr(_EMPTY, name)}
        if self.build_system and (self.told or "name" not in self.by_build):
            content["name"] = library_name(self.name)  # its build is locked under that
        in_order = {"sources": [source.facts for source in self.sources]}  # the first one is asked first
        text = json.dumps(_plain(content) | in_order, sort_keys=True, separators=(",", ":"))
        return "sha256:" + hashlib.sha256(text.encode()).hexdigest()


_EMPTY = Declaration(name="", python=SpecifierSet(), needs=(), groups={}, sources=())
_NOT_ON_LOCK = {"name", "version", "dynamic", "variants", "team_builds", "system_for_builds"}
_NOT_ON_LOCK |= {key.field for key in KEYS if not key.on_lock}


def _plain(content: Mapping[str, object]) -> dict[str, object]:
    """A mapping in plain values, the same for the same content; its order does not count."""
    return {str(name): _plain_value(value) for name, value in content.items()}


def _plain_value(value: object) -> object:
    if hasattr(value, "facts"):
        return value.facts
    if isinstance(value, Mapping):
        return _plain(value)
    if type(value) in (tuple, frozenset):
        values = [_plain_value(element) for element in value]  # type: ignore[attr-defined]
        return sorted(
            {text if isinstance(text, str) else json.dumps(text, sort_keys=True) for text in values}
        )
    return str(value)


def allows_minor(python: SpecifierSet, minor: str) -> bool:
    """Whether a constraint admits the latest patches of a version such as `3.12`."""
    return python.contains(f"{minor}.{LATEST_PATCH}", prereleases=True)
