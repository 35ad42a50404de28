"""The search: conflict-driven version solving with learned incompatibilities.

Unit propagation narrows domains until an incompatibility is violated; conflict resolution then resolves the
violated one with the causes of what satisfied it, until the result would have forced something at an earlier
level, and the search jumps back there. This is clause learning as in SAT solvers (GRASP: Marques-Silva and
Sakallah, 1999), on slots with many values in place of booleans. It is complete: domains are finite, every
learned incompatibility follows from known ones, and each rules out the state that led to it.
"""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from rabbet.core.solve.problem.incompatibility import Incompatibility
from rabbet.core.solve.problem.problem import Problem
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.search.decision_queue import DecisionQueue
from rabbet.core.solve.search.propagation import Propagator
from rabbet.core.solve.search.trail import Trail

__all__ = ["Effort", "Search"]


class Effort(Struct):
    """How much a search did: free choices made, and conflicts learned from."""

    decisions: int = 0
    conflicts: int = 0


class Search:
    """One run on one problem: which releases are tried first is the policy's affair."""

    def __init__(self, problem: Problem, policy: Policy) -> None:
        self.effort = Effort()
        self._problem = problem
        self._policy = policy
        self._trail = Trail()
        self._propagator = Propagator(self._trail)
        self._queue = DecisionQueue(problem, self._trail)

    def run(self) -> Mapping[int, int] | Incompatibility:
        """The bit chosen for each slot that gets a release, or the refutation (it has no terms)."""
        conflict = self._admit(self._problem.start())
        while True:
            conflict = conflict or self._propagator.propagate()
            self._put_touched()
            if conflict is not None:
                learned = self._learn(conflict)
                if not learned.terms:
                    return learned
                conflict = self._propagator.add(learned)
                continue
            slot = self._queue.next()
            if slot is None:
                return self._selection()
            conflict = self._choose(slot)

    def _selection(self) -> Mapping[int, int]:
        domains = self._trail.domains
        required = range(1, len(domains))
        return {s: domains[s] for s in required if not domains[s] & self._problem.absent(s)}

    def _put_touched(self) -> None:
        for slot in self._propagator.touched:
            self._queue.put(slot)
        self._propagator.touched.clear()

    def _admit(self, incompatibilities: Sequence[Incompatibility]) -> Incompatibility | None:
        """Take in what the problem has newly stated, with its new slots; return what is violated."""
        for number in range(len(self._trail.domains), len(self._problem.slots)):
            self._trail.add_slot(self._problem.full[number])
            self._propagator.add_slot()
        violated = [self._propagator.add(incompatibility) for incompatibility in incompatibilities]
        return next((incompatibility for incompatibility in violated if incompatibility is not None), None)

    def _learn(self, conflict: Incompatibility) -> Incompatibility:
        """Resolve a conflict and jump back to where the result forces something (no terms: it refutes)."""
        self.effort.conflicts += 1
        trail, current = self._trail, conflict
        while current.terms:
            numbered = sorted((trail.satisfier(term), term) for term in current.terms)
            latest, (pivot, _) = numbered[-1]
            entry = trail.entry(latest)
            others = trail.entry(numbered[-2][0]).level if len(numbered) > 1 else 0
            if entry.cause is None:
                self._jump(others, current)
                break
            resolvent = current.resolved_with(entry.cause, pivot, self._problem.full)
            same_slot = dict(resolvent.terms).get(pivot)
            if same_slot is not None:
                others = max(others, trail.entry(trail.satisfier((pivot, same_slot))).level)
            if others < entry.level:
                self._jump(others, current)
                break
            current = resolvent
        return current

    def _jump(self, level: int, learned: Incompatibility) -> None:
        """Go back, and note which slots are open again and which were contested."""
        for slot in self._trail.backjump(level):
            self._propagator.widened(slot)
            self._queue.put(slot)
        for slot, _ in learned.terms:
            self._queue.contested(slot)

    def _choose(self, slot: int) -> Incompatibility | None:
        """Decide on a release, unless taking in what it needs already forces something.

        Where only one is left there is nothing to decide: what it needs is taken in at the present level.
        """
        bit = self._best(slot)
        fresh = self._problem.expand(slot, bit)
        conflict = self._admit(fresh)
        if not fresh:
            for known in self._problem.expansion(slot, bit):
                conflict = conflict or self._propagator.reconsider(known)
        domain = self._trail.domains[slot]
        if conflict is None and not self._propagator.touched and domain != bit:
            self.effort.decisions += 1
            self._trail.decide(slot, bit)
            self._propagator.narrowed(slot)
        self._queue.put(slot)
        return conflict

    def _best(self, slot: int) -> int:
        """The preferred release if still possible, else the newest (or the lowest)."""
        domain = self._trail.domains[slot]
        name = self._problem.slots[slot].name
        for wanted in self._policy.likes(name):
            for position, release in enumerate(self._problem.releases[slot]):
                if release.version == wanted and domain >> position & 1:
                    return 1 << position
        return domain & -domain if name in self._policy.lowest else 1 << (domain.bit_length() - 1)
