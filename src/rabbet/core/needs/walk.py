"""One walk along requirements: from roots to every library, and every extra of one, that they reach."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from typing import TypeVar

from rabbet.core.needs.need import Need, Part

__all__ = ["parts_reached", "walk"]

Root = TypeVar("Root")


def walk(
    roots: Iterable[tuple[Root, Need]],
    needs_of: Callable[[Part], Iterable[Need]],
    parts: Iterable[Part] = (),
) -> Iterator[tuple[Root | Part, Need]]:
    """Each requirement that is reached with who makes it, nearest to the roots first; each part once.

    `needs_of` gives the requirements of a part that count, nothing for one that is not there. The walk begins
    at the roots, and at `parts` that are there without being asked for.
    """
    waiting: deque[tuple[Root | Part, Need]] = deque(roots)
    seen: set[Part] = set()

    def visit(part: Part) -> None:
        if part not in seen:
            seen.add(part)
            waiting.extend((part, need) for need in needs_of(part))

    for part in parts:
        visit(part)
    while waiting:
        requirer, need = waiting.popleft()
        yield requirer, need
        for part in need.parts:
            visit(part)


def parts_reached(roots: Iterable[Need], needs_of: Callable[[Part], Iterable[Need]]) -> frozenset[Part]:
    """All libraries and extras that these requirements reach."""
    walked = walk(((None, root) for root in roots), needs_of)
    return frozenset(part for _, need in walked for part in need.parts)
