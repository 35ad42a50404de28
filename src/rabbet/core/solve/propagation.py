"""Unit propagation with two watched terms (Moskewicz et al., Chaff, 2001), for slots with many values.

An incompatibility can force something, or be violated, only once all its terms but one hold. So it is enough
to watch two terms that do not hold: while both stay so, nothing follows. When one of them comes to hold,
another that does not is watched in its place; when there is none, the other watched term must not hold. Going
back never makes a term hold, so watches need no repair.
"""

from rabbet.core.solve.incompatibility import Incompatibility, Term
from rabbet.core.solve.trail import Trail

__all__ = ["Propagator"]


class _Watch:
    """An incompatibility and the positions of its two watched terms (the same twice if it has only one)."""

    __slots__ = ("first", "incompatibility", "second", "terms")

    def __init__(self, incompatibility: Incompatibility, first: int, second: int) -> None:
        self.incompatibility = incompatibility
        self.terms = incompatibility.terms
        self.first = first
        self.second = second


class Propagator:
    """Draws conclusions on a trail; `touched` collects the slots whose domains it narrowed."""

    def __init__(self, trail: Trail) -> None:
        self.touched: list[int] = []
        self._trail = trail
        self._watching: list[list[_Watch]] = []
        self._queue: dict[int, None] = {}  # in order, each slot once however often it was narrowed

    def add_slot(self) -> None:
        """Make room for the next slot."""
        self._watching.append([])

    def add(self, incompatibility: Incompatibility) -> Incompatibility | None:
        """Take in an incompatibility and what it forces now; return it if it is violated.

        Watched are the terms that came to hold last: those are the first not to hold after going back.
        """
        terms = incompatibility.terms
        if not terms:
            return incompatibility
        order = sorted(range(len(terms)), key=lambda position: self._held_since(terms[position]))
        watch = _Watch(incompatibility, order[-1], order[-2] if len(order) > 1 else order[-1])
        self._watching[terms[watch.first][0]].append(watch)
        if watch.second != watch.first:
            self._watching[terms[watch.second][0]].append(watch)
        domains = self._trail.domains
        if all(not domains[slot] & ~mask for slot, mask in terms):
            return incompatibility
        if watch.second == watch.first or self._holds(terms[watch.second]):
            self._force(incompatibility, terms[watch.first])
        return None

    def reconsider(self, incompatibility: Incompatibility) -> Incompatibility | None:
        """Draw what follows now from one that was taken in before; return it if it is violated.

        After going back, something that it forced at a later level may hold no more.
        """
        open_terms = [term for term in incompatibility.terms if not self._holds(term)]
        if len(open_terms) == 1:
            self._force(incompatibility, open_terms[0])
        return None if open_terms else incompatibility

    def narrowed(self, slot: int) -> None:
        """Take note that a slot's domain was narrowed by somebody else."""
        self._queue[slot] = None

    def propagate(self) -> Incompatibility | None:
        """Draw all conclusions; return an incompatibility that is violated, if one is."""
        while self._queue:
            conflict = self._visit(self._queue.popitem()[0])
            if conflict is not None:
                self._queue.clear()
                return conflict
        return None

    def _visit(self, slot: int) -> Incompatibility | None:
        """Look at all that watch a slot after its domain was narrowed."""
        domains = self._trail.domains
        watching = self._watching[slot]
        kept: list[_Watch] = []
        for number, watch in enumerate(watching):
            here = watch.first if watch.terms[watch.first][0] == slot else watch.second
            if domains[slot] & ~watch.terms[here][1]:
                kept.append(watch)
                continue
            other = watch.second if here == watch.first else watch.first
            if self._moved(watch, here, other):
                continue
            kept.append(watch)
            if here == other or self._holds(watch.terms[other]):
                self._watching[slot] = kept + watching[number + 1 :]
                return watch.incompatibility
            self._force(watch.incompatibility, watch.terms[other])
        self._watching[slot] = kept
        return None

    def _moved(self, watch: _Watch, here: int, other: int) -> bool:
        """Watch another term that does not hold, if there is one."""
        domains = self._trail.domains
        for position, (slot, mask) in enumerate(watch.terms):
            if position not in (here, other) and domains[slot] & ~mask:
                watch.first, watch.second = position, other
                self._watching[slot].append(watch)
                return True
        return False

    def _force(self, incompatibility: Incompatibility, term: Term) -> None:
        """All other terms hold, so this one must not."""
        slot, mask = term
        domain = self._trail.domains[slot]
        if domain & mask:
            self._trail.derive(slot, domain & ~mask, incompatibility)
            self._queue[slot] = None
            self.touched.append(slot)

    def _holds(self, term: Term) -> bool:
        return not self._trail.domains[term[0]] & ~term[1]

    def _held_since(self, term: Term) -> float:
        """The number of the entry from which on a term holds; infinite for one that does not."""
        return self._trail.satisfier(term) if self._holds(term) else float("inf")
