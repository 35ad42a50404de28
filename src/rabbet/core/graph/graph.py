"""Who asks for what in a lock, and along which ways."""

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TypeVar

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration, Declared, Section
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import walk

__all__ = [
    "Ask",
    "Branch",
    "Graph",
    "asked_for_by",
    "build_graph",
    "own_size",
    "paths_to",
    "sections_of",
    "size_with_needs",
    "tree",
]


_Key = TypeVar("_Key", bound=Hashable)


class Ask(Struct, frozen=True, kw_only=True):
    """A requirement and who makes it: a locked library, or (`requirer` is `None`) the project or section.

    A library may ask only where one `extra` of it is asked for.
    """

    requirer: NormalizedName | None
    need: Need
    section: Section | None = None
    extra: str = ""

    @property
    def name(self) -> NormalizedName:
        """The library that is asked for."""
        return self.need.name

    def asks_for(self, part: Part) -> bool:
        """Whether a library, or that extra of it, is asked for."""
        name, extra = part
        return self.name == name and extra in ("", *self.need.extras)


class Graph(Struct, frozen=True, kw_only=True, dict=True):
    """Everything that is asked for in a lock, what is nearest to the project first."""

    project: str
    libraries: Mapping[NormalizedName, LockedLibrary]
    asks: tuple[Ask, ...]

    @cached_property
    def _by_library(self) -> Mapping[NormalizedName, Sequence[Ask]]:
        return _grouped(self.asks, lambda ask: ask.name)

    @cached_property
    def _by_requirer(self) -> Mapping[tuple[NormalizedName | None, Section | None], Sequence[Ask]]:
        return _grouped(self.asks, lambda ask: (ask.requirer, ask.section))

    def asking_for(self, name: NormalizedName) -> Sequence[Ask]:
        """Who asks for a library."""
        return self._by_library.get(name, ())

    def asked_by(self, requirer: NormalizedName | None, section: Section | None = None) -> Sequence[Ask]:
        """The requirements of one requirer."""
        return self._by_requirer.get((requirer, section), ())

    def who(self, ask: Ask) -> str:
        """The requirer with its version, the project or its section, as messages name it."""
        if ask.requirer is not None:
            return f"{ask.requirer} {self.libraries[ask.requirer].version}"
        return f"{self.project}, {ask.section}" if ask.section else self.project


def build_graph(
    declaration: Declaration,
    lock: Lock,
    target: Target,
    needs: Callable[[LockedLibrary], Iterable[Need]],
) -> Graph:
    """Walk from the declaration along the requirements that count on this target.

    `needs` gives the requirements of a locked library's metadata, whatever their markers.
    """
    libraries = {library.name: library for library in lock.libraries}

    def needs_of(part: Part) -> Iterator[Need]:
        name, extra = part
        for need in needs(libraries[name]) if name in libraries else ():
            if target.admits(need.marker, extra) and not (extra and target.admits(need.marker)):
                yield need

    declared = [
        requirement for requirement in declaration.declared() if target.admits(requirement.need.marker)
    ]
    asks = [
        Ask(requirer=None, need=need, section=requirer.section)
        if isinstance(requirer, Declared)
        else Ask(requirer=requirer[0], need=need, extra=requirer[1])
        for requirer, need in walk(((requirement, requirement.need) for requirement in declared), needs_of)
    ]
    return Graph(project=declaration.name, libraries=libraries, asks=tuple(asks))


def own_size(graph: Graph, name: NormalizedName) -> int:
    """The size of a library's best wheel, or source archive, in bytes."""
    library = graph.libraries.get(name)
    return next((file.size or 0 for file in library.files), 0) if library else 0


def size_with_needs(graph: Graph, name: NormalizedName) -> int:
    """The size of a library and of all that it needs, in bytes."""
    reached, waiting = {name}, [name]
    while waiting:
        for ask in graph.asked_by(waiting.pop()):
            if ask.name not in reached:
                reached.add(ask.name)
                waiting.append(ask.name)
    return sum(own_size(graph, library) for library in reached)


def asked_for_by(
    libraries: Sequence[LockedLibrary], declaration: Declaration
) -> dict[NormalizedName, list[str]]:
    """Who requires each locked library: the project or a section of it, else names of libraries."""
    asked: dict[NormalizedName, list[str]] = {library.name: [] for library in libraries}
    for library in libraries:
        for name in dict.fromkeys(library.dependencies):
            if name in asked:
                asked[name].append(library.name)
    own: set[NormalizedName] = set()
    for declared in declaration.declared():
        name = declared.need.name
        if declared.section is None:
            own.add(name)
            asked[name] = [declaration.name]
        elif name not in own:
            asked[name] = [f"{declaration.name}, {declared.section}"]
    return asked


_MOST_PATHS = 2000


class Branch(Struct, frozen=True, kw_only=True):
    """A line of the tree: who is asked for at which depth; `seen`: its own needs stand further up.

    `section` opens a group's or an extra's part of the tree; then there is no `ask`.
    """

    depth: int
    ask: Ask | None = None
    section: Section | None = None
    seen: bool = False


def paths_to(graph: Graph, name: NormalizedName) -> tuple[tuple[Ask, ...], ...]:
    """The ways from the declaration to a library: for everyone who asks the shortest, then further ones.

    A way leads through an extra only where it asks for that extra. Of very many ways not all are found.
    """
    shortest: dict[Ask, tuple[Ask, ...]] = {}
    further: list[tuple[Ask, ...]] = []
    waiting: list[tuple[Ask, ...]] = [(ask,) for ask in graph.asking_for(name)]
    for path in waiting:  # grows while it is walked, shorter ones first
        first = path[0]
        if first.requirer is None:
            if shortest.setdefault(path[-1], path) is not path:
                further.append(path)
            continue
        part = (first.requirer, first.extra)
        inside = {ask.requirer for ask in path[1:]}
        if len(waiting) < _MOST_PATHS:
            waiting += [
                (ask, *path)
                for ask in graph.asking_for(first.requirer)
                if ask.asks_for(part) and ask.requirer not in (*inside, first.requirer, name)
            ]
    return (*shortest.values(), *further)


def sections_of(graph: Graph, name: NormalizedName) -> tuple[Section | None, ...]:
    """The sections that need a library, directly or not; `None` stands for the project itself."""
    found: set[Section | None] = set()
    seen: set[Part] = set()
    waiting: list[Part] = [(name, "")]
    while waiting:
        part = waiting.pop()
        for ask in graph.asking_for(part[0]):
            if not ask.asks_for(part):
                continue
            if ask.requirer is None:
                found.add(ask.section)
            elif (ask.requirer, ask.extra) not in seen:
                seen.add((ask.requirer, ask.extra))
                waiting.append((ask.requirer, ask.extra))
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


def _below(graph: Graph, ask: Ask, depth: int, seen: set[NormalizedName]) -> Iterator[Branch]:
    inner = graph.asked_by(ask.name)
    yield Branch(depth=depth, ask=ask, seen=ask.name in seen and bool(inner))
    if ask.name not in seen:
        seen.add(ask.name)
        for inner_ask in _by_name(inner):
            yield from _below(graph, inner_ask, depth + 1, seen)


def _grouped(asks: Iterable[Ask], key: Callable[[Ask], _Key]) -> Mapping[_Key, Sequence[Ask]]:
    """The asks of each key, in their order."""
    found: dict[_Key, list[Ask]] = {}
    for ask in asks:
        found.setdefault(key(ask), []).append(ask)
    return found


def _by_name(asks: Sequence[Ask]) -> list[Ask]:
    return sorted(asks, key=lambda ask: (ask.name, str(ask.need)))
