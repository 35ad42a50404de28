"""The shortest marker that tells some of a lock's targets from the others (PEP 508, PEP 751)."""

import heapq
from collections.abc import Iterator, Sequence
from itertools import combinations, count

from rabbet.core.model.target import Target

__all__ = ["separating_marker"]

_KEYS = ("sys_platform", "platform_machine", "python_version", "implementation_name")
_MOST_JOINED = 3


def separating_marker(targets: Sequence[Target], wanted: frozenset[int]) -> str:
    """A marker that holds for exactly the wanted ones (by position), the shortest of its form.

    The form is comparisons joined by `and`, and these joined by `or`. It is empty when all are wanted.
    Targets differ in at least one of the keys that are looked at, so there always is one.
    """
    everything = (1 << len(targets)) - 1
    goal = sum(1 << position for position in wanted)
    if goal == everything:
        return ""
    terms = _terms(targets, everything, goal)
    waiting: list[tuple[int, int, int, tuple[str, ...]]] = [(0, 0, 0, ())]
    done: set[int] = set()
    ticket = count(1)
    while waiting:
        cost, _, covered, parts = heapq.heappop(waiting)
        if covered == goal:
            return " or ".join(sorted(parts))
        if covered in done:
            continue
        done.add(covered)
        for truth, text in terms:
            if truth & ~covered:
                longer = cost + len(text) + 4
                heapq.heappush(waiting, (longer, next(ticket), covered | truth, (*parts, text)))
    msg = "targets that no marker tells apart"
    raise AssertionError(msg)


def _terms(targets: Sequence[Target], everything: int, goal: int) -> list[tuple[int, str]]:
    """Conjunctions that hold for wanted targets only; of those for the same ones, the shortest."""
    atoms = list(_atoms(targets, everything))
    best: dict[int, str] = {}
    for joined in range(1, min(_MOST_JOINED, len(atoms)) + 1):
        for chosen in combinations(atoms, joined):
            truth = everything
            for mask, _ in chosen:
                truth &= mask
            text = " and ".join(text for _, text in chosen)
            if truth and not truth & ~goal and (truth not in best or _length(text) < _length(best[truth])):
                best[truth] = text
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
