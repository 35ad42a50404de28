"""Who asks for what in a lock: the graph that `explain` tells of."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.model.declaration import Declaration, Section
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.solution import Part
from rabbet.core.model.target import Target
from rabbet.core.solve.candidates import Candidates
from rabbet.core.wording import requirement_text

__all__ = ["Ask", "Branch", "Graph", "Holder", "build_graph", "held_back", "paths_to", "sections_of", "tree"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Ask:
    """A requirement and who makes it: a locked library, or (`requirer` is `None`) the project or section."""

    requirer: NormalizedName | None
    requirement: Requirement
    section: Section | None = None

    @property
    def name(self) -> NormalizedName:
        """The library that is asked for."""
        return canonicalize_name(self.requirement.name)


@dataclass(frozen=True, slots=True, kw_only=True)
class Graph:
    """Everything that is asked for in a lock, what is nearest to the project first."""

    project: str
    libraries: Mapping[NormalizedName, LockedLibrary]
    asks: tuple[Ask, ...]

    def asking_for(self, name: NormalizedName) -> tuple[Ask, ...]:
        """Who asks for a library."""
        return tuple(ask for ask in self.asks if ask.name == name)

    def asked_by(self, requirer: NormalizedName | None, section: Section | None = None) -> tuple[Ask, ...]:
        """What somebody asks for."""
        return tuple(ask for ask in self.asks if (ask.requirer, ask.section) == (requirer, section))

    def who(self, ask: Ask) -> str:
        """The requirer with its version, the project or its section, as messages name it."""
        if ask.requirer is not None:
            return f"{ask.requirer} {self.libraries[ask.requirer].version}"
        return f"{self.project}, {ask.section}" if ask.section else self.project


@dataclass(frozen=True, slots=True, kw_only=True)
class Branch:
    """A line of the tree: who is asked for at which depth; `seen`: its own needs stand further up.

    `section` opens a group's or an extra's part of the tree; then there is no `ask`.
    """

    depth: int
    ask: Ask | None = None
    section: Section | None = None
    seen: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Holder:
    """Why a library is not at its newest release.

    `by` are requirements that don't admit it (who makes them, and their text), or its own needs that the lock
    does not meet. Where there are none, nothing holds it but the lock. `out_of_reach` are still newer
    releases that can't be used on this target, with the reasons.
    """

    name: NormalizedName
    locked: Version
    newest: Version
    by: tuple[str, ...]
    out_of_reach: tuple[str, ...] = ()


def build_graph(
    declaration: Declaration,
    lock: Lock,
    target: Target,
    needs: Callable[[LockedLibrary], Iterable[Requirement]],
) -> Graph:
    """Walk from the declaration along the requirements that count on this target.

    `needs` gives the requirements of a locked library's metadata, whatever their markers.
    """
    libraries = {library.name: library for library in lock.libraries}
    asks = [
        Ask(requirer=None, requirement=one.requirement, section=one.section)
        for one in declaration.declared()
        if target.admits(one.requirement.marker)
    ]
    parts: set[Part] = set()
    for ask in asks:  # grows while it is walked
        for extra in ("", *sorted(canonicalize_name(extra) for extra in ask.requirement.extras)):
            if (ask.name, extra) in parts or ask.name not in libraries:
                continue
            parts.add((ask.name, extra))
            asks += [
                Ask(requirer=ask.name, requirement=need)
                for need in needs(libraries[ask.name])
                if target.admits(need.marker, extra) and not (extra and target.admits(need.marker))
            ]
    return Graph(project=declaration.name, libraries=libraries, asks=tuple(asks))


def paths_to(graph: Graph, name: NormalizedName) -> tuple[tuple[Ask, ...], ...]:
    """For everyone who asks for a library: the shortest way from the declaration to there."""
    shortest: dict[NormalizedName, tuple[Ask, ...]] = {}
    for ask in graph.asks:
        if ask.requirer is None:
            shortest.setdefault(ask.name, (ask,))
        elif ask.requirer in shortest:
            shortest.setdefault(ask.name, (*shortest[ask.requirer], ask))
    return tuple(
        (ask,) if ask.requirer is None else (*shortest[ask.requirer], ask) for ask in graph.asking_for(name)
    )


def sections_of(graph: Graph, name: NormalizedName) -> tuple[Section | None, ...]:
    """The sections that need a library, directly or not; `None` stands for the project itself."""
    found: set[Section | None] = set()
    seen: set[NormalizedName] = set()
    waiting = [name]
    while waiting:
        for ask in graph.asking_for(waiting.pop()):
            if ask.requirer is None:
                found.add(ask.section)
            elif ask.requirer not in seen:
                seen.add(ask.requirer)
                waiting.append(ask.requirer)
    return tuple(sorted(found, key=lambda section: str(section or "")))


def tree(graph: Graph) -> Iterator[Branch]:
    """The whole graph, line by line; what stood before is not repeated."""
    seen: set[NormalizedName] = set()
    sections = sorted({ask.section for ask in graph.asks if ask.section is not None})
    for section in (None, *sections):
        if section is not None:
            yield Branch(depth=0, section=section)
        for ask in _by_name(graph.asked_by(None, section)):
            yield from _below(graph, ask, 1 if section else 0, seen)


def held_back(
    graph: Graph,
    name: NormalizedName,
    candidates: Candidates,
    needs: Callable[[Version], Iterable[Requirement]],
    target: Target,
) -> Holder | None:
    """What keeps a library from its newest release; `None` when it is there and nothing newer exists.

    `needs` gives the requirements of one of its releases.
    """
    locked = graph.libraries[name].version
    early = locked.is_prerelease or all(one.version.is_prerelease for one in candidates.releases)
    offered = [one.version for one in candidates.releases if not one.yanked]
    newest = max((one for one in offered if early or not one.is_prerelease), default=locked)
    beyond = tuple(
        f"{one.version}: {one.reason}" for one in candidates.aside if one.newer_than(max(newest, locked))
    )
    if newest <= locked:
        return Holder(name=name, locked=locked, newest=locked, by=(), out_of_reach=beyond) if beyond else None
    by = [
        f"{graph.who(ask)} needs {requirement_text(ask.requirement, marker=False)}"
        for ask in graph.asking_for(name)
        if not ask.requirement.specifier.contains(newest, prereleases=True)
    ]
    for need in needs(newest) if not by else ():
        other = graph.libraries.get(canonicalize_name(need.name))
        if other is None or not target.admits(need.marker):
            continue
        if not need.specifier.contains(other.version, prereleases=True):
            text = requirement_text(need, marker=False)
            by.append(f"{name} {newest} needs {text}, locked is {other.version}")
    return Holder(name=name, locked=locked, newest=newest, by=tuple(by), out_of_reach=beyond)


def _below(graph: Graph, ask: Ask, depth: int, seen: set[NormalizedName]) -> Iterator[Branch]:
    inner = graph.asked_by(ask.name)
    yield Branch(depth=depth, ask=ask, seen=ask.name in seen and bool(inner))
    if ask.name not in seen:
        seen.add(ask.name)
        for one in _by_name(inner):
            yield from _below(graph, one, depth + 1, seen)


def _by_name(asks: Sequence[Ask]) -> list[Ask]:
    return sorted(asks, key=lambda ask: (ask.name, str(ask.requirement)))
