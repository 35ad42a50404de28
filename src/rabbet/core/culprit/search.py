"""The smallest failing mixture, by delta debugging (Zeller and Hildebrandt, 2002).

A passing mixture and a failing one that holds it are brought together by halving what they differ in. What
remains between them is needed for the failure; it is kept, and the same is done for what else is, until all
that is kept fails by itself. This is the search for preferred explanations (Junker, 2004): one change among n
is found with log2(n) trials, and each further one that it only fails together with costs as many. Every
mixture that is tried is consistent, so changes that need each other are tried together, and reported as one
where nothing can part them.
"""

from collections.abc import Iterable, Iterator, Sequence
from itertools import islice

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixing, Mixture
from rabbet.core.culprit.outcome import Ledger, Outcome

__all__ = ["Culprit", "Search"]

_GOOD = Mixture()
_TOO_MUCH = 0.75  # of what a step is to halve: if so much comes along, smaller steps are looked for


class Culprit(Struct, frozen=True, kw_only=True):
    """The smallest set of changes that makes the command fail.

    `failing` is a smallest mixture that fails. Without any of its `groups` it passes; a group is a single
    change, or several that can't be parted. What else is in it comes along, for the groups need it. `passing`
    is the same mixture without them. Of `unclear` changes nobody can tell whether they are needed for the
    failure: without them the command does neither.
    """

    failing: Mixture
    passing: Mixture
    groups: tuple[Mixture, ...]
    unclear: Mixture

    @property
    def guilty(self) -> Mixture:
        """All changes of all groups."""
        return _GOOD.union(*self.groups)

    @property
    def company(self) -> Mixture:
        """Changes that the guilty ones require."""
        return self.failing - self.guilty - self.unclear


class Search:
    """Finds culprits; several mixtures may be tried at once (`jobs`).

    `order` are all changes; those that stand near each other there are likelier to be needed together.
    """

    def __init__(self, order: Sequence[NormalizedName], mixing: Mixing, ledger: Ledger, jobs: int) -> None:
        self._order = order
        self._mixing = mixing
        self._ledger = ledger
        self._jobs = jobs

    def culprit(self, failing: Mixture) -> Culprit:
        """A culprit within a mixture that is known to fail, as the good state is known to pass."""
        return self._pared(self._smallest_failing(failing))

    def _smallest_failing(self, failing: Mixture) -> Mixture:
        """A failing mixture of what is needed for the failure, and of what that needs."""
        needed = _GOOD
        while True:
            low = self._mixing.least(needed, failing)
            if low is None or low == failing:
                return failing
            if self._ask([low], len(failing - needed)) == [Outcome.FAIL]:
                return low
            low, failing = self._brought_together(low, failing)
            needed |= failing - low

    def _brought_together(self, low: Mixture, high: Mixture) -> tuple[Mixture, Mixture]:
        """A mixture that does not fail, and one that does, with nothing between them that tells more."""
        while True:
            points = self._chain(low, high)
            outcomes = self._ask(points, len(high - low))
            narrowed = _narrowed(low, high, points, outcomes)
            if narrowed == (low, high):
                narrowed = self._elsewhere(low, high)
            if narrowed == (low, high):
                return low, high
            low, high = narrowed

    def _elsewhere(self, low: Mixture, high: Mixture) -> tuple[Mixture, Mixture]:
        """Where all halves do neither, any other mixture between them that passes or fails."""
        between = self._between(low, high)
        while points := list(islice(between, self._jobs)):
            for point, outcome in zip(points, self._ask(points, len(high - low)), strict=True):
                if outcome is not Outcome.OTHER:
                    return (point, high) if outcome is Outcome.PASS else (low, point)
        return low, high

    def _chain(self, low: Mixture, high: Mixture) -> list[Mixture]:
        """Mixtures between the two, each within the next, as many as can be tried at once; about evenly."""
        points: list[Mixture] = []
        for number in range(self._jobs):
            at = points[-1] if points else low
            count = round(len(high - at) / (self._jobs + 1 - number))
            point = self._beyond(at, high, max(1, count))
            if point is None:
                break
            points.append(point)
        return points

    def _beyond(self, low: Mixture, high: Mixture, count: int) -> Mixture | None:
        """A consistent mixture with about that many more changes; `None` when none is left below the high."""
        pool = self._ordered(high - low)
        found = self._mixing.least(low.union(pool[:count]), high)
        if found is not None and found != high and len(found - low) <= max(count, _TOO_MUCH * len(pool)):
            return found
        grown = low
        for name in pool:
            more = grown if name in grown else self._mixing.least(grown | {name}, high)
            if more is not None and more != high:
                grown = more
            if len(grown - low) >= count:
                break
        return grown if grown != low else None

    def _between(self, low: Mixture, high: Mixture) -> Iterator[Mixture]:
        """Consistent mixtures between the two that were not tried: beginnings and ends of the order."""
        pool = self._ordered(high - low)
        middle = len(pool) / 2
        seen = {low, high}
        for size in sorted(range(1, len(pool)), key=lambda size: abs(size - middle)):
            for part in (pool[:size], pool[-size:]):
                found = self._mixing.least(low.union(part), high)
                if found is not None and found not in seen and not self._ledger.knows(found):
                    seen.add(found)
                    yield found

    def _pared(self, failing: Mixture) -> Culprit:
        """Leave out what the failure does not need after all, and tell what the others are there for."""
        without: dict[NormalizedName, tuple[Mixture, Outcome]] = {}
        while len(without) < len(failing):
            ones = [name for name in reversed(self._ordered(failing)) if name not in without]
            rests = {name: self._mixing.most(frozenset({name}), failing) or _GOOD for name in ones}
            passing = [rest for rest, outcome in without.values() if outcome is Outcome.PASS]
            implied = [name for name in ones if any(rests[name] <= known for known in passing)]
            if implied:  # where more passes, less does
                without.update({name: (rests[name], Outcome.PASS) for name in implied})
                continue
            ones = ones[: self._jobs]
            outcomes = self._ask([rests[name] for name in ones], len(failing))
            if Outcome.FAIL in outcomes:
                failing, without = rests[ones[outcomes.index(Outcome.FAIL)]], {}
            else:
                without.update(
                    {culprit: (rests[culprit], told) for culprit, told in zip(ones, outcomes, strict=True)}
                )
        return self._told(
            failing, {failing - rest for rest, told in without.values() if told is Outcome.PASS}
        )

    def _told(self, failing: Mixture, dropped: Iterable[Mixture]) -> Culprit:
        """A culprit by what has to be dropped from a smallest failing mixture so that the command passes."""
        known = set(dropped) or {failing}
        groups = [group for group in known if not any(other < group for other in known)]
        passing = self._mixing.most(_GOOD.union(*groups), failing) or _GOOD
        self._ask([passing], len(failing))
        return Culprit(
            failing=failing,
            passing=passing,
            groups=tuple(sorted(groups, key=sorted)),
            unclear=failing.difference(*known),
        )

    def _ask(self, mixtures: Sequence[Mixture], suspects: int) -> list[Outcome]:
        left = "1 suspect" if suspects == 1 else f"{suspects} suspects"
        return self._ledger.ask(mixtures, f"{left} left")

    def _ordered(self, names: Iterable[NormalizedName]) -> list[NormalizedName]:
        wanted = frozenset(names)
        return [name for name in self._order if name in wanted]


def _narrowed(
    low: Mixture, high: Mixture, points: Sequence[Mixture], outcomes: Sequence[Outcome]
) -> tuple[Mixture, Mixture]:
    """The first failing one of a chain, and the last passing one before it."""
    for point, outcome in zip(points, outcomes, strict=True):
        if outcome is Outcome.FAIL:
            return low, point
        if outcome is Outcome.PASS:
            low = point
    return low, high
