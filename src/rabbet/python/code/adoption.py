"""A project's files × its code's imports → a declaration, and the versions its first lock prefers.

Only what nothing else needs is declared; the rest is left to the resolver. Imports say what, an environment
says which versions; exact pins are versions to prefer, not constraints.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from enum import StrEnum
from itertools import chain
from typing import NamedTuple, TypeAlias

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Section
from rabbet.core.drift.keep import lower_bound
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.python.code.imports import (
    TEST_GROUPS,
    ImportCause,
    ImportSite,
    LibraryContents,
    by_module,
    other_use,
    owners_of,
)

__all__ = [
    "AdoptCause",
    "AdoptReason",
    "Adopted",
    "Adoption",
    "Evidence",
    "Left",
    "Listed",
    "Present",
    "adopt",
]

Needing: TypeAlias = Mapping[NormalizedName, frozenset[NormalizedName]]
"""For each library the ones that need it."""

Offering: TypeAlias = Mapping[str, frozenset[NormalizedName]]
"""For each module the libraries that offer it."""

_TOOL_GROUPS = ("dev", "develop", "tools")
_BUILD_COMMANDS = "distutils.commands"  # the entry points of those that build other libraries


class AdoptReason(StrEnum):
    """Why something is taken over or left, by its name, as the JSON document has it."""

    LISTED = "listed"
    PINNED = "pinned"
    IMPORTED = "imported"
    NOT_NEEDED = "not-needed"
    OTHER_USE = "other-use"
    DIRECT = "direct"
    INSTALLER = "installer"
    BUILDER = "builder"
    NOT_IMPORTED = "not-imported"
    NOT_OFFERED = "not-offered"
    CALLED_SO = "called-so"
    NOT_INSTALLED = "not-installed"
    OTHER_VERSION = "other-version"
    TOLD_BY_BUILD = "told-by-build"
    NO_FILE = "no-file"
    UNREADABLE = "unreadable"


class AdoptCause(NamedTuple):
    """Why something is taken over or left.

    `facts` belong to the reason: places, modules, versions, addresses, or why a file can't be read. `use` is
    the use of a library that nothing imports; `imported` the place where the program imports a listed one.
    """

    reason: AdoptReason
    facts: tuple[str, ...] = ()
    use: ImportCause | None = None
    imported: str = ""


class Listed(Struct, frozen=True, kw_only=True):
    """A requirement that somebody wrote down, and where; a `constraint` only bounds what something needs.

    One that the program itself imports is `imported` at some place.
    """

    need: Need
    place: str
    section: Section | None = None
    constraint: bool = False
    imported: str = ""


class Present(Struct, frozen=True, kw_only=True):
    """A library that is installed somewhere: what it needs there, what it offers, and who installed it.

    Its `origin` is an address, where no source lists it.
    """

    version: Version
    needs: frozenset[NormalizedName] = frozenset()
    offered: LibraryContents = field(default_factory=LibraryContents)
    installer: str = ""
    requested: bool = False
    origin: str = ""


class Evidence(Struct, frozen=True, kw_only=True):
    """All that was found: what is listed, installed and imported, and what is declared already.

    `standard` are the modules of Python itself, `own` those of the project, which may be installed too under
    its name, `project`. `groups` are those that are declared, `limited` has bounds already, and `left` is
    what could not be read as evidence.
    """

    project: NormalizedName
    listed: Sequence[Listed] = ()
    present: Mapping[NormalizedName, Present] = field(default_factory=dict)
    sites: Sequence[ImportSite] = ()
    declared: frozenset[NormalizedName] = frozenset()
    groups: Collection[str] = ()
    limited: frozenset[NormalizedName] = frozenset()
    standard: frozenset[str] = frozenset()
    own: frozenset[str] = frozenset()
    left: Sequence["Left"] = ()


class Adopted(Struct, frozen=True, kw_only=True):
    """A requirement to be declared, in a section or for the project itself, and why."""

    need: Need
    section: Section | None
    cause: AdoptCause


class Left(Struct, frozen=True, kw_only=True):
    """Something that is not taken over, and why."""

    what: str
    cause: AdoptCause


class Adoption(Struct, frozen=True, kw_only=True):
    """The proposed declaration, the bounds of indirect libraries, the preferred versions, and the rest.

    `along` are libraries that come along with others. Where lists and what is installed are `at_odds`, each
    such entry is told.
    """

    entries: tuple[Adopted, ...]
    limits: tuple[Listed, ...]
    preferred: Mapping[NormalizedName, Version]
    along: tuple[NormalizedName, ...]
    left: tuple[Left, ...]
    at_odds: tuple[Left, ...] = ()


def adopt(evidence: Evidence) -> Adoption:
    """Draw it up. Where the project itself is installed, what it needs counts as needed by nobody else."""
    present = {name: library for name, library in evidence.present.items() if name != evidence.project}
    evidence = replace(evidence, present=present)
    offering = by_module({name: library.offered for name, library in present.items()})
    used, needed_by = _used(evidence, offering), _needed_by(present)
    entries = [*_from_lists(evidence, used, needed_by)]
    listed = {entry.need.name for entry in entries} | evidence.declared
    found = [*_from_environment(evidence, used, needed_by, listed)]
    entries += [entry for entry in found if isinstance(entry, Adopted)]
    names = {entry.need.name for entry in entries} | evidence.declared
    left = [
        *evidence.left,
        *(entry for entry in found if isinstance(entry, Left)),
        *_unexplained(evidence, names, offering),
    ]
    along = _along(names, present)
    pins = dict(_pins(evidence.listed))
    installed = {name: present[name].version for name in {*along, *names, *pins} & present.keys()}
    bounds = [entry for entry in evidence.listed if entry.constraint and _pinned(entry.need) is None]
    return Adoption(
        entries=tuple(_bounded(entry, bounds) for entry in sorted(entries, key=_place_and_name)),
        limits=tuple(
            bound
            for bound in bounds
            if bound.need.name not in evidence.limited and (bound.need.marker or bound.need.name not in names)
        ),
        preferred=pins | installed,
        along=tuple(sorted({*along, *pins} - names)),
        left=tuple(left),
        at_odds=tuple(_at_odds(evidence)),
    )


def _pins(listed: Iterable[Listed]) -> Iterator[tuple[NormalizedName, Version]]:
    """The libraries of which one version is pinned; of those with several, split by marker, none is meant."""
    found: dict[NormalizedName, set[Version]] = {}
    for entry in listed:
        pin = _pinned(entry.need)
        if pin is not None:
            found.setdefault(entry.need.name, set()).add(pin)
    return ((name, next(iter(versions))) for name, versions in found.items() if len(versions) == 1)


def _at_odds(evidence: Evidence) -> Iterator[Left]:
    """Entries of lists that what is installed does not meet; those under a marker may not count there."""
    for listed in evidence.listed if evidence.present else ():
        installed, need = evidence.present.get(listed.need.name), listed.need
        if need.marker is not None or need.url is not None or (installed is None and listed.constraint):
            continue
        if installed is None:
            yield Left(what=listed.place, cause=AdoptCause(AdoptReason.NOT_INSTALLED, (need.name,)))
        elif not need.specifier.contains(installed.version, prereleases=True):
            facts = (need_text(need), str(installed.version))
            yield Left(what=listed.place, cause=AdoptCause(AdoptReason.OTHER_VERSION, facts))


def _place_and_name(entry: Adopted) -> tuple[bool, str, str]:
    return entry.section is not None, str(entry.section), entry.need.name


def _used(evidence: Evidence, offering: Offering) -> Mapping[NormalizedName, Sequence[ImportSite]]:
    """Where each installed library is imported."""
    found: dict[NormalizedName, list[ImportSite]] = {}
    for site in evidence.sites:
        for owner in owners_of(site, offering):
            found.setdefault(owner, []).append(site)
    return found


def _needed_by(present: Mapping[NormalizedName, Present]) -> Needing:
    """Which installed libraries need each one.

    Of a circle that nothing outside needs, one is said to be needed by nobody: the one that was asked for by
    name, or the first.
    """
    found: dict[NormalizedName, set[NormalizedName]] = {name: set() for name in present}
    for name, library in present.items():
        for need in library.needs - {name}:
            if need in present:
                found[need].add(name)
    reached = _along([name for name, by in found.items() if not by], present)
    waiting = sorted(name for name, by in found.items() if by and name not in reached)
    for name in reversed(_finished(waiting, present)):  # none that is left leads to the first of these
        if name not in reached:
            circle = {name, *_reachable([name], lambda member: found[member])}
            root = min(circle, key=lambda member: (not present[member].requested, member))
            reached |= {root, *_along([root], present)}
            found[root] = set()
    return {name: frozenset(by) for name, by in found.items()}


def _finished(
    names: Sequence[NormalizedName], present: Mapping[NormalizedName, Present]
) -> list[NormalizedName]:
    """All names in the order in which a walk in depth is done with them (the first half of Kosaraju's)."""
    done: list[NormalizedName] = []
    seen: set[NormalizedName] = set()
    for start in names:
        waiting = [] if start in seen else [(start, iter(_inside(present[start], present)))]
        seen.add(start)
        while waiting:
            name, needs = waiting[-1]
            following = next((need for need in needs if need not in seen), None)
            if following is None:
                done.append(name)
                waiting.pop()
            else:
                seen.add(following)
                waiting.append((following, iter(_inside(present[following], present))))
    return done


def _along(
    names: Collection[NormalizedName], present: Mapping[NormalizedName, Present]
) -> frozenset[NormalizedName]:
    """All that these need among what is installed, directly or not."""
    return _reachable(names, lambda name: _inside(present[name], present) if name in present else ())


def _inside(library: Present, present: Mapping[NormalizedName, Present]) -> list[NormalizedName]:
    """The installed libraries that a library needs, sorted."""
    return sorted(need for need in library.needs if need in present)


def _reachable(
    names: Collection[NormalizedName], following: Callable[[NormalizedName], Iterable[NormalizedName]]
) -> frozenset[NormalizedName]:
    found: set[NormalizedName] = set()
    waiting = list(names)
    while waiting:
        new = set(following(waiting.pop())) - found
        found |= new
        waiting += new
    return frozenset(found)


def _pinned(need: Need) -> Version | None:
    """The only version that a requirement admits, if it is a pin."""
    if not need.is_pin or need.url is not None:
        return None
    exact = next(
        clause for clause in need.specifier if clause.operator in ("==", "===") and "*" not in clause.version
    )
    try:
        return Version(exact.version)
    except ValueError:
        return None


def _from_lists(
    evidence: Evidence,
    used: Mapping[NormalizedName, Sequence[ImportSite]],
    needed_by: Needing,
) -> Iterator[Adopted]:
    """The written requirements, the project's own first; without pins of indirect libraries.

    What the program itself imports is the project's own, whatever list has it.
    """
    seen: set[tuple[NormalizedName, Section | None, str]] = set()
    listed = (_owned(entry, used) for entry in evidence.listed)
    for entry in sorted(listed, key=lambda entry: entry.section is not None):
        need, version = entry.need, _pinned(entry.need)
        key = (need.name, entry.section, str(need.marker))
        comes_along = version is not None and needed_by.get(need.name) and need.name not in used
        known = need.name in evidence.declared or seen & {key, (need.name, None, str(need.marker))}
        if entry.constraint or comes_along or known:
            continue
        seen.add(key)
        cause = AdoptCause(AdoptReason.LISTED, (entry.place,), imported=entry.imported)
        if version is not None:
            there = evidence.present.get(need.name)
            need = replace(need, specifier=lower_bound(min(version, there.version) if there else version))
            cause = cause._replace(reason=AdoptReason.PINNED, facts=(entry.place, str(version)))
        yield Adopted(need=need, section=entry.section, cause=cause)


def _owned(entry: Listed, used: Mapping[NormalizedName, Sequence[ImportSite]]) -> Listed:
    """An entry, for the project itself where its program imports that."""
    site = next((site for site in used.get(entry.need.name, ()) if site.role == "program"), None)
    if entry.section is None or site is None:
        return entry
    return replace(entry, section=None, imported=site.place)


def _from_environment(
    evidence: Evidence,
    used: Mapping[NormalizedName, Sequence[ImportSite]],
    needed_by: Needing,
    named: Collection[NormalizedName],
) -> Iterator[Adopted | Left]:
    """Installed libraries that are imported; without code, those that no other library needs."""
    installers = {library.installer.lower() for library in evidence.present.values()}
    listed = {entry.need.name for entry in evidence.listed}
    for name, library in sorted(evidence.present.items()):
        if name in named or (name in listed and needed_by[name]):
            continue
        sites, root = used.get(name, ()), not needed_by[name]
        if library.origin and (sites or root):
            yield _left(name, library, AdoptReason.DIRECT, library.origin)
        elif sites:
            yield _imported(name, library, sites, evidence.groups)
        elif root and name in installers:
            yield _left(name, library, AdoptReason.INSTALLER)
        elif root and _BUILD_COMMANDS in library.offered.plugins:
            yield _left(name, library, AdoptReason.BUILDER)
        elif root and not evidence.sites:
            yield _entry(name, library, None, AdoptCause(AdoptReason.NOT_NEEDED))
        elif root and (use := other_use(library.offered)):
            group = Section("group", _group(_TOOL_GROUPS, evidence.groups))
            yield _entry(name, library, group, AdoptCause(AdoptReason.OTHER_USE, use=use))
        elif root:
            yield _left(name, library, AdoptReason.NOT_IMPORTED)


def _imported(
    name: NormalizedName, library: Present, sites: Sequence[ImportSite], groups: Collection[str]
) -> Adopted:
    """The entry for what is imported: for all, if the program does that, else for the developers alone."""
    roles = {site.role for site in sites}
    first = min(sites, key=lambda site: (site.role != "program", site.file, site.line))
    names = TEST_GROUPS if roles == {"tests"} else _TOOL_GROUPS
    section = None if "program" in roles else Section("group", _group(names, groups))
    facts = (first.place, first.module.partition(".")[0])
    return _entry(name, library, section, AdoptCause(AdoptReason.IMPORTED, facts))


def _entry(name: NormalizedName, library: Present, section: Section | None, cause: AdoptCause) -> Adopted:
    return Adopted(need=Need(name, lower_bound(library.version)), section=section, cause=cause)


def _left(name: NormalizedName, library: Present, reason: AdoptReason, *facts: str) -> Left:
    return Left(what=f"{name} {library.version}", cause=AdoptCause(reason, facts))


def _group(names: Sequence[str], known: Collection[str]) -> NormalizedName:
    """The first of these names that is a group already; else the first."""
    return NormalizedName(next((name for name in names if name in known), names[0]))


def _bounded(entry: Adopted, bounds: Sequence[Listed]) -> Adopted:
    """An entry within the bounds that a list of constraints sets."""
    both = [
        bound.need.specifier
        for bound in bounds
        if bound.need.name == entry.need.name and bound.need.marker is None
    ]
    specifier = SpecifierSet(",".join(chain([str(entry.need.specifier)], map(str, both))).strip(","))
    return replace(entry, need=replace(entry.need, specifier=specifier)) if both else entry


def _unexplained(evidence: Evidence, named: Collection[NormalizedName], offering: Offering) -> Iterator[Left]:
    """Modules that are imported, and nothing that is known here offers."""
    known = {name.replace("-", "_") for name in named}
    told: set[str] = set()
    for site in evidence.sites:
        top = site.module.partition(".")[0]
        explained = top in evidence.standard or top in evidence.own or top.lower() in known
        if not (explained or site.guarded or top in told or owners_of(site, offering)):
            told.add(top)
            yield Left(what=f"import {top}", cause=AdoptCause(AdoptReason.NOT_OFFERED, (site.place,)))
