"""A priority queue of the slots that still need a release."""

import heapq
from typing import TypeAlias

from rabbet.core.solve.problem.problem import Problem
from rabbet.core.solve.search.trail import Trail

__all__ = ["DecisionQueue"]

_Urgency: TypeAlias = tuple[bool, int, int, int, str]


class DecisionQueue:
    """A queue by urgency.

    Slots with a single release left come first: what they need has to be taken in before the next free
    choice, at whose level it would be forgotten again. Then comes what is wished to be first, then the most
    contested, then the nearest to the project. Names break ties, so that no order of answers matters. An
    entry may be out of date; it is checked when it comes up, and changing a slot's urgency adds it
    again.
    """

    def __init__(self, problem: Problem, trail: Trail) -> None:
        self._problem = problem
        self._trail = trail
        self._heap: list[tuple[_Urgency, int]] = []
        self._activity: dict[int, int] = {}

    def put(self, slot: int) -> None:
        """Put a slot in, if it needs a release and has none yet."""
        if self._waits(slot):
            heapq.heappush(self._heap, (self._urgency(slot), slot))

    def _urgency(self, slot: int) -> _Urgency:
        return (
            self._trail.domains[slot].bit_count() > 1,
            self._problem.rank(slot),
            -self._activity.get(slot, 0),
            self._problem.depth[slot],
            self._problem.text[slot],
        )

    def contested(self, slot: int) -> None:
        """A slot took part in a conflict."""
        self._activity[slot] = self._activity.get(slot, 0) + 1
        self.put(slot)

    def next(self) -> int | None:
        """The most urgent slot that still needs a release."""
        while self._heap:
            urgency, slot = heapq.heappop(self._heap)
            if self._waits(slot):
                if urgency == self._urgency(slot):
                    return slot
                self.put(slot)
        return None

    def _waits(self, slot: int) -> bool:
        domain = self._trail.domains[slot]
        return not domain & self._problem.absent(slot) and not self._problem.expanded(slot, domain)
