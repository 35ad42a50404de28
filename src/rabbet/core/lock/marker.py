"""The shortest marker that tells some of a lock's targets from the others (PEP 508, PEP 751)."""

import heapq
from collections.abc import Iterator, Sequence
from itertools import combinations, count
from typing import TypeAlias

from rabbet.core.model.target import Target

__all__ = ["separating_marker"]

_KEYS = ("sys_platform", "platform_machine", "python_version", "implementation_name")
_MOST_JOINED = 3
_MOST_COVERS = 5_000  # that are looked at for the shortest; then the next best will do
Term: TypeAlias = tuple[int, str]
"""The targets for which a conjunction holds, one bit each, and its text."""


def separating_marker(
    targets: Sequence[Target], wanted: frozenset[int], free: frozenset[int] = frozenset()
) -> str:
    """A marker that holds for all wanted ones (by position), perhaps for free ones, and for no others.

    It is the shortest of its form, or, for many targets without much in common, a short one: comparisons
    joined by `and`, and these joined by `or`. It is empty when it has to exclude nobody. Targets differ in at
    least one of the keys that are looked at, so there always is one.
    """
    everything = (1 << len(targets)) - 1
    goal = sum(1 << position for position in wanted)
    allowed = goal | sum(1 << position for position in free)
    if allowed == everything:
        return ""
    terms = _terms(targets, everything, goal, allowed)
    return " or ".join(sorted(_shortest_cover(terms, goal) or _short_cover(terms, goal)))


def _shortest_cover(terms: Sequence[Term], goal: int) -> tuple[str, ...]:
    """The shortest texts whose terms hold together for all of the goal; empty if that takes too long."""
    waiting: list[tuple[int, int, int, tuple[str, ...]]] = [(0, 0, 0, ())]
    done: set[int] = set()
    ticket = count(1)
    while waiting and len(done) < _MOST_COVERS:
        cost, _, covered, parts = heapq.heappop(waiting)
        if covered == goal:
            return parts
        if covered in done:
            continue
        done.add(covered)
        lowest = (goal & ~covered) & -(goal & ~covered)  # whatever order: this one has to be covered once
        for truth, text in terms:
            if truth & lowest:
                heapq.heappush(
                    waiting,
                    (cost + len(text) + 4, next(ticket), covered | truth & goal, (*parts, text)),
                )
    return ()


def _short_cover(terms: Sequence[Term], goal: int) -> list[str]:
    """Step by step the term that covers most for its length."""
    parts, left = [], goal
    while left:
        open_now = left
        truth, text = max(terms, key=lambda term: ((term[0] & open_now).bit_count() / len(term[1]), term[1]))
        parts.append(text)
        left &= ~truth
    return parts


def _terms(targets: Sequence[Target], everything: int, goal: int, allowed: int) -> list[Term]:
    """Conjunctions that hold for allowed targets only; of those for the same wanted ones, the shortest."""
    atoms = list(_atoms(targets, everything))
    best: dict[int, str] = {}
    for joined in range(1, min(_MOST_JOINED, len(atoms)) + 1):
        for chosen in combinations(atoms, joined):
            truth = everything
            for mask, _ in chosen:
                truth &= mask
            if truth & ~allowed or not truth & goal:
                continue
            text = " and ".join(text for _, text in chosen)
            if truth & goal not in best or _length(text) < _length(best[truth & goal]):
                best[truth & goal] = text
    for position, target in enumerate(targets):
        if goal >> position & 1:
            best.setdefault(1 << position, target.environment)
    return sorted((truth, text) for truth, text in best.items())


def _length(text: str) -> tuple[int, int]:
    """The shorter the better; of equals, the one that says what is rather than what is not."""
    return len(text), text.count("!=")


def _atoms(targets: Sequence[Target], everything: int) -> Iterator[tuple[int, str]]:
    """Comparisons that hold for some of the targets, with the mask of those."""
    for key in _KEYS:
        values = sorted({target.markers[key] for target in targets}, key=_as_numbers)
        for value in values:
            equal = sum(1 << i for i, target in enumerate(targets) if target.markers[key] == value)
            yield from ((equal, f"{key} == '{value}'"), (everything & ~equal, f"{key} != '{value}'"))
            if key == "python_version":
                at_least = sum(
                    1 << i
                    for i, target in enumerate(targets)
                    if _as_numbers(target.markers[key]) >= _as_numbers(value)
                )
                yield from ((at_least, f"{key} >= '{value}'"), (everything & ~at_least, f"{key} < '{value}'"))


def _as_numbers(text: str) -> tuple[tuple[int, str], ...]:
    """Sorts `3.9` before `3.10`, and words by their letters."""
    return tuple((int(part), "") if part.isdecimal() else (0, part) for part in text.split("."))
