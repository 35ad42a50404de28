"""Who asks for what in a lock: the graph that `explain` tells of."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration, Declared, Section
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import walk

__all__ = ["Ask", "Graph", "asked_for_by", "build_graph", "own_size", "size_with_needs"]


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


class Graph(Struct, frozen=True, kw_only=True):
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

    declared = [one for one in declaration.declared() if target.admits(one.need.marker)]
    asks = [
        Ask(requirer=None, need=need, section=requirer.section)
        if isinstance(requirer, Declared)
        else Ask(requirer=requirer[0], need=need, extra=requirer[1])
        for requirer, need in walk(((one, one.need) for one in declared), needs_of)
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
    return sum(own_size(graph, one) for one in reached)


def asked_for_by(
    libraries: Sequence[LockedLibrary], declaration: Declaration
) -> dict[NormalizedName, list[str]]:
    """For each locked library the declaration (with the section), else the libraries that need it."""
    asked: dict[NormalizedName, list[str]] = {
        library.name: [other.name for other in libraries if library.name in other.dependencies]
        for library in libraries
    }
    own: set[NormalizedName] = set()
    for declared in declaration.declared():
        name = declared.need.name
        if declared.section is None:
            own.add(name)
            asked[name] = [declaration.name]
        elif name not in own:
            asked[name] = [f"{declaration.name}, {declared.section}"]
    return asked
