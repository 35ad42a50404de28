"""The ways from a declaration to its libraries, and the tree that they make up."""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Section
from rabbet.core.graph.graph import Ask, Graph
from rabbet.core.needs.need import Part

__all__ = ["Branch", "paths_to", "sections_of", "tree"]

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
        for one in _by_name(inner):
            yield from _below(graph, one, depth + 1, seen)


def _by_name(asks: Sequence[Ask]) -> list[Ask]:
    return sorted(asks, key=lambda ask: (ask.name, str(ask.need)))
