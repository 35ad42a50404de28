"""The trail: the domain of each slot, and the order in which domains were narrowed."""

from bisect import bisect_left

from msgspec import Struct

from rabbet.core.solve.problem.incompatibility import Incompatibility, Term

__all__ = ["Trail", "TrailEntry"]


class TrailEntry(Struct, frozen=True):
    """A slot's domain was narrowed: by a decision (no cause), or because an incompatibility forced it."""

    slot: int
    domain: int
    level: int
    cause: Incompatibility | None


class Trail:
    """Domains that only get narrower, until a backjump restores an earlier state.

    A level is the number of decisions made so far; level 0 holds what follows from the project alone.
    """

    def __init__(self) -> None:
        self.domains: list[int] = []
        self.level = 0
        self._entries: list[TrailEntry] = []
        self._history: list[list[int]] = []
        self._initial: list[int] = []

    def add_slot(self, domain: int) -> None:
        """Give the next slot its whole domain."""
        self.domains.append(domain)
        self._initial.append(domain)
        self._history.append([])

    def decide(self, slot: int, domain: int) -> None:
        """Open a new level with a free choice."""
        self.level += 1
        self._narrow(slot, domain, None)

    def derive(self, slot: int, domain: int, cause: Incompatibility) -> None:
        """Note what an incompatibility forces."""
        self._narrow(slot, domain, cause)

    def _narrow(self, slot: int, domain: int, cause: Incompatibility | None) -> None:
        self._history[slot].append(len(self._entries))
        self._entries.append(TrailEntry(slot, domain, self.level, cause))
        self.domains[slot] = domain

    def satisfier(self, term: Term) -> int:
        """The number of the first entry from which on this term holds. The term must hold now."""
        slot, mask = term
        history = self._history[slot]
        return history[bisect_left(history, 1, key=lambda number: not self._entries[number].domain & ~mask)]

    def last_against(self, term: Term) -> int:
        """Of the values that a term that holds now does not admit, one that was ruled out last."""
        slot, mask = term
        history = self._history[slot]
        place = bisect_left(history, self.satisfier(term))
        before = self._entries[history[place - 1]].domain if place else self._initial[slot]
        outside = before & ~mask
        return outside & -outside

    def entry(self, number: int) -> TrailEntry:
        """One entry by its number."""
        return self._entries[number]

    def backjump(self, level: int) -> set[int]:
        """Forget all that came after this level; return the slots whose domains are wider again."""
        widened = set()
        while self._entries and self._entries[-1].level > level:
            entry = self._entries.pop()
            history = self._history[entry.slot]
            history.pop()
            before = self._entries[history[-1]].domain if history else self._initial[entry.slot]
            self.domains[entry.slot] = before
            widened.add(entry.slot)
        self.level = level
        return widened
