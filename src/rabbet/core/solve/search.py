"""The search: conflict-driven version solving with learned incompatibilities.

Unit propagation narrows domains until an incompatibility is violated; conflict resolution then resolves the
violated one with the causes of what satisfied it, until the result would have forced something at an earlier
level, and the search jumps back there. This is clause learning as in SAT solvers (GRASP: Marques-Silva and
Sakallah, 1999), on slots with many values in place of booleans. It is complete: domains are finite, every
learned incompatibility follows from known ones, and each rules out the state that led to it.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.solve.incompatibility import Incompatibility
from rabbet.core.solve.problem import Problem
from rabbet.core.solve.trail import Trail

__all__ = ["Effort", "Search"]


@dataclass(slots=True)
class Effort:
    """How much a search did: free choices made, and conflicts learned from."""

    decisions: int = 0
    conflicts: int = 0


class Search:
    """One run on one problem. `preferred` versions are tried first; elsewhere the newest is."""

    def __init__(self, problem: Problem, preferred: Mapping[NormalizedName, Version]) -> None:
        self.effort = Effort()
        self._problem = problem
        self._preferred = preferred
        self._trail = Trail()
        self._by_slot: list[list[Incompatibility]] = []
        self._activity: list[int] = []
        self._queue: list[int] = []
        self._hopeless: Incompatibility | None = None

    def run(self) -> Mapping[int, int] | Incompatibility:
        """The bit chosen for each slot that gets a release, or the refutation (it has no terms)."""
        self._admit(self._problem.start())
        while True:
            conflict = self._propagate()
            if conflict is not None:
                refutation = self._learn(conflict)
                if refutation is not None:
                    return refutation
                continue
            slot = self._next_slot()
            if slot is None:
                return self._selection()
            self._choose(slot)

    def _selection(self) -> Mapping[int, int]:
        domains = self._trail.domains
        required = range(1, len(domains))
        return {s: domains[s] for s in required if not domains[s] & self._problem.absent(s)}

    def _admit(self, incompatibilities: list[Incompatibility]) -> None:
        """Take in what the problem has newly stated, and slots that are new with it."""
        for number in range(len(self._by_slot), len(self._problem.slots)):
            self._trail.add_slot(self._problem.full[number])
            self._by_slot.append([])
            self._activity.append(0)
        for incompatibility in incompatibilities:
            self._watch(incompatibility)
            if not incompatibility.terms:
                self._hopeless = incompatibility

    def _watch(self, incompatibility: Incompatibility) -> None:
        for slot, _ in incompatibility.terms:
            self._by_slot[slot].append(incompatibility)
            self._queue.append(slot)

    def _propagate(self) -> Incompatibility | None:
        """Draw all conclusions; return an incompatibility that is violated, if one is."""
        if self._hopeless is not None:
            return self._hopeless
        while self._queue:
            slot = self._queue.pop()
            if self._trail.level == 0:
                self._by_slot[slot] = [one for one in self._by_slot[slot] if not self._void(one)]
            for incompatibility in reversed(self._by_slot[slot]):
                if self._violated(incompatibility):
                    self._queue.clear()
                    return incompatibility
        return None

    def _void(self, incompatibility: Incompatibility) -> bool:
        """Whether a term can't hold any more. At level 0 this is for good, and it need not be watched."""
        domains = self._trail.domains
        return any(not domains[slot] & mask for slot, mask in incompatibility.terms)

    def _violated(self, incompatibility: Incompatibility) -> bool:
        """Whether all terms hold. When all but one do, conclude that this one must not."""
        domains = self._trail.domains
        open_slot, open_mask = -1, 0
        for slot, mask in incompatibility.terms:
            domain = domains[slot]
            if not domain & ~mask:
                continue
            if open_slot >= 0 or not domain & mask:
                return False
            open_slot, open_mask = slot, mask
        if open_slot < 0:
            return True
        self._trail.derive(open_slot, domains[open_slot] & ~open_mask, incompatibility)
        self._queue.append(open_slot)
        return False

    def _learn(self, conflict: Incompatibility) -> Incompatibility | None:
        """Resolve a conflict and jump back; return the refutation when nothing is left to jump to."""
        self.effort.conflicts += 1
        trail, current = self._trail, conflict
        while current.terms:
            numbered = sorted((trail.satisfier(term), term) for term in current.terms)
            latest, (pivot, _) = numbered[-1]
            entry = trail.entry(latest)
            others = trail.entry(numbered[-2][0]).level if len(numbered) > 1 else 0
            if entry.cause is None:
                self._jump(others, current)
                return None
            resolvent = current.resolved_with(entry.cause, pivot, self._problem.full)
            same_slot = dict(resolvent.terms).get(pivot)
            if same_slot is not None:
                others = max(others, trail.entry(trail.satisfier((pivot, same_slot))).level)
            if others < entry.level:
                self._jump(others, current)
                return None
            current = resolvent
        return current

    def _jump(self, level: int, learned: Incompatibility) -> None:
        """Go back to where the learned incompatibility forces something, and remember it."""
        self._trail.backjump(level)
        for slot, _ in learned.terms:
            self._activity[slot] += 1
        self._watch(learned)

    def _next_slot(self) -> int | None:
        """A slot that needs a release and has none yet.

        Forced ones come first, then the most contested, then the nearest to the project. Names break ties, so
        that no order of answers matters.
        """
        problem, trail = self._problem, self._trail
        waiting = [
            (slot, trail.domains[slot])
            for slot in range(1, len(problem.slots))
            if not trail.domains[slot] & problem.absent(slot)
            and not problem.expanded(slot, trail.domains[slot])
        ]
        if not waiting:
            return None

        def urgency(item: tuple[int, int]) -> tuple[bool, int, int, str]:
            slot, domain = item
            several = domain.bit_count() > 1
            return several, -self._activity[slot], problem.depth[slot], str(problem.slots[slot])

        return min(waiting, key=urgency)[0]

    def _choose(self, slot: int) -> None:
        """Decide on a release, unless what it needs is ruled out already: then propagation drops it.

        Where only one is left there is nothing to decide: what it needs is taken in at the present level.
        """
        bit = self._best(slot)
        self._admit(self._problem.expand(slot, bit))
        forced = self._trail.domains[slot] == bit
        if not forced and not any(self._would_violate(one, slot, bit) for one in self._by_slot[slot]):
            self.effort.decisions += 1
            self._trail.decide(slot, bit)
        self._queue.append(slot)

    def _would_violate(self, incompatibility: Incompatibility, slot: int, bit: int) -> bool:
        domains = self._trail.domains
        return all(
            mask & bit if number == slot else not domains[number] & ~mask
            for number, mask in incompatibility.terms
        )

    def _best(self, slot: int) -> int:
        """The preferred release where it can be had, else the newest."""
        domain = self._trail.domains[slot]
        wanted = self._preferred.get(self._problem.slots[slot].name)
        if wanted is not None:
            for position, release in enumerate(self._problem.releases[slot]):
                if release.version == wanted and domain >> position & 1:
                    return 1 << position
        return 1 << (domain.bit_length() - 1)
