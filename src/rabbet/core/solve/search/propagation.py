"""Unit propagation with two watched terms (Moskewicz et al., Chaff, 2001), for slots with many values.

An incompatibility can force something, or be violated, only once all its terms but one hold. So it is enough
to watch two terms that do not hold: while both stay so, nothing follows. When one of them comes to hold,
another that does not is watched in its place; when there is none, the other watched term must not hold.

A term does not hold while any value outside of its mask is left in its slot's domain. So it is watched by one
such value, its witness, and looked at only when that value is ruled out: of a library with thousands of
releases, each with needs of its own, a narrowed domain concerns a few. The witness of a term that holds is a
value that was ruled out last. Whenever going back makes the term hold no more, it brings its witness back as
well, so watches need no repair.
"""

from rabbet.core.solve.problem.incompatibility import Incompatibility, Term
from rabbet.core.solve.search.trail import Trail

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
    """Draws conclusions on a trail; `touched` collects the slots whose domains it narrowed.

    For each slot, `_watching` holds the watches by their witnesses, `_witnesses` these in one mask, and
    `_seen` the domain that was looked at last.
    """

    def __init__(self, trail: Trail) -> None:
        self.touched: list[int] = []
        self._trail = trail
        self._watching: list[dict[int, list[_Watch]]] = []
        self._witnesses: list[int] = []
        self._seen: list[int] = []
        self._queue: dict[int, None] = {}  # in order, each slot once however often it was narrowed

    def add_slot(self) -> None:
        """Make room for the next slot of the trail."""
        self._watching.append({})
        self._witnesses.append(0)
        self._seen.append(self._trail.domains[len(self._seen)])

    def add(self, incompatibility: Incompatibility) -> Incompatibility | None:
        """Take in an incompatibility and what it forces now; return it if it is violated.

        Watched are the terms that came to hold last: those are the first not to hold after going back.
        """
        terms = incompatibility.terms
        if not terms:
            return incompatibility
        order = sorted(range(len(terms)), key=lambda position: self._held_since(terms[position]))
        watch = _Watch(incompatibility, order[-1], order[-2] if len(order) > 1 else order[-1])
        for position in {watch.first, watch.second}:
            term = terms[position]
            self._watch(watch, term[0], self._outside(term) or self._trail.last_against(term))
        if all(self._holds(term) for term in terms):
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
        """Record that a decision or a caller narrowed a slot's domain."""
        self._queue[slot] = None

    def widened(self, slot: int) -> None:
        """Record that a backjump restored a slot's domain."""
        self._seen[slot] |= self._trail.domains[slot]

    def propagate(self) -> Incompatibility | None:
        """Draw all conclusions; return an incompatibility that is violated, if one is."""
        while self._queue:
            conflict = self._visit(self._queue.popitem()[0])
            if conflict is not None:
                self._queue.clear()
                return conflict
        return None

    def _visit(self, slot: int) -> Incompatibility | None:
        """Look at all whose witness in a slot was ruled out since the slot was looked at last."""
        before, domain = self._seen[slot], self._trail.domains[slot]
        gone = self._witnesses[slot] & before & ~domain
        self._seen[slot] = domain
        while gone:
            witness = gone & -gone
            gone ^= witness
            conflict = self._look_at(slot, witness)
            if conflict is not None:
                self._seen[slot] = before
                return conflict
        return None

    def _look_at(self, slot: int, witness: int) -> Incompatibility | None:
        """Find another witness, else another term to watch, else draw what follows."""
        watches = self._watching[slot][witness]
        kept: list[_Watch] = []
        conflict = None
        for number, watch in enumerate(watches):
            here = watch.first if watch.terms[watch.first][0] == slot else watch.second
            other = watch.second if here == watch.first else watch.first
            if self._impossible(watch.terms[here]) or self._impossible(watch.terms[other]):
                kept.append(watch)  # nothing follows until going back, which brings the witness back first
                continue
            outside = self._outside(watch.terms[here])
            if outside:
                self._watch(watch, slot, outside)
            elif not self._moved(watch, here, other):
                kept.append(watch)
                if here == other or self._holds(watch.terms[other]):
                    conflict = watch.incompatibility
                    kept += watches[number + 1 :]
                    break
                self._force(watch.incompatibility, watch.terms[other])
        self._watching[slot][witness] = kept
        if not kept:
            self._witnesses[slot] ^= witness
        return conflict

    def _moved(self, watch: _Watch, here: int, other: int) -> bool:
        """Watch another term that does not hold, if there is one."""
        for position, term in enumerate(watch.terms):
            if position not in (here, other):
                outside = self._outside(term)
                if outside:
                    watch.first, watch.second = position, other
                    self._watch(watch, term[0], outside)
                    return True
        return False

    def _watch(self, watch: _Watch, slot: int, witness: int) -> None:
        self._watching[slot].setdefault(witness, []).append(watch)
        self._witnesses[slot] |= witness

    def _force(self, incompatibility: Incompatibility, term: Term) -> None:
        """All other terms hold, so this one must not."""
        slot, mask = term
        domain = self._trail.domains[slot]
        if domain & mask:
            self._trail.derive(slot, domain & ~mask, incompatibility)
            self._queue[slot] = None
            self.touched.append(slot)

    def _outside(self, term: Term) -> int:
        """A value that is left and speaks against a term; 0 if it holds."""
        outside = self._trail.domains[term[0]] & ~term[1]
        return outside & -outside

    def _impossible(self, term: Term) -> bool:
        """Whether no value is left that a term admits."""
        return not self._trail.domains[term[0]] & term[1]

    def _holds(self, term: Term) -> bool:
        return not self._trail.domains[term[0]] & ~term[1]

    def _held_since(self, term: Term) -> float:
        """The number of the entry from which on a term holds; infinite for one that does not."""
        return self._trail.satisfier(term) if self._holds(term) else float("inf")
