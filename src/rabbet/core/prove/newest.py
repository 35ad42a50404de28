"""The furthest set of raises with which a command passes.

Everything at once comes first. Where that fails, the smallest failing set is found as for culprits, one group
of it is kept back, the one that leaves most of the others, and the rest is tried again, until what is left
passes together. Then each raise that was kept back is tried once more upon the result, with what it needs:
one that passes after all joins.

So the result passes, and no single raise can be added to it. Of a raise that needs another one that was kept
back that follows from what was tried, if the command fails wherever it fails with less. Others are tried.
"""

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixing, Mixture
from rabbet.core.culprit.outcome import Ledger, Oracle, Outcome, Runs
from rabbet.core.culprit.search import Search
from rabbet.core.culprit.steadiness import LUCK, Steadiness

__all__ = ["NewestAnswer", "NewestVerdict", "find_newest"]

_NOW = Mixture()
_ROUNDS = 3  # how often a search starts again after answers that do not go together


class NewestAnswer(StrEnum):
    """The results of a search."""

    NOTHING = "nothing"  # there is nothing to raise
    ALL = "all"
    SOME = "some"
    NONE = "none"
    FAILS_NOW = "fails-now"
    FLAKY = "flaky"


class NewestVerdict(Struct, frozen=True, kw_only=True):
    """The answer, and the raises that go together (`passing`).

    Of each raise that was `kept` back, the smallest mixture upon the result that fails with it; `None` where
    the solver refuses each. The `guilty` groups were kept back first, the others because of them. `luck` is
    the chance, at most, that a mixture the verdict rests upon passed by luck; with so many `repeats` it would
    be small.
    """

    answer: NewestAnswer
    passing: Mixture = _NOW
    guilty: tuple[Mixture, ...] = ()
    kept: Mapping[NormalizedName, Mixture | None] = field(default_factory=dict)
    runs: tuple[tuple[Mixture, Runs], ...] = ()
    luck: float = 0.0
    repeats: int = 0


def find_newest(
    order: Sequence[NormalizedName], mixing: Mixing, oracle: Oracle, *, jobs: int = 1
) -> NewestVerdict:
    """Find the furthest set of raises; `order` are all, those before others that others need.

    Of k guilty raises among n it takes 3 + k (3 + log2 n) environments at most, where each fails by itself.
    """
    everything = frozenset(order)
    if not everything:
        return NewestVerdict(answer=NewestAnswer.NOTHING)
    ledger = Ledger(oracle)
    now = ledger.ask([_NOW], "what is locked")
    if now != [Outcome.PASS]:
        answer = NewestAnswer.FLAKY if ledger.runs[_NOW].flaky else NewestAnswer.FAILS_NOW
        return NewestVerdict(answer=answer, runs=tuple(ledger.runs.items()))
    return _Raising(order, mixing, ledger, jobs).verdict()


class _Raising:
    """One search, where what is locked passes."""

    def __init__(self, order: Sequence[NormalizedName], mixing: Mixing, ledger: Ledger, jobs: int) -> None:
        self._order = order
        self._everything = frozenset(order)
        self._mixing = mixing
        self._ledger = ledger
        self._jobs = jobs
        self._search = Search(order, mixing, ledger, jobs)

    def verdict(self) -> NewestVerdict:
        """Search, and search again where an answer changed when it was asked for again."""
        steadiness = Steadiness(self._ledger)
        steady, luck = False, 0.0
        for _ in range(_ROUNDS):
            passing, guilty = self._narrowed()
            passing, kept = self._grown(passing, _NOW.union(*guilty))
            failing = {mixture for mixture in kept.values() if mixture is not None}
            evidence = [*{_NOW: 0, passing: 0}, *failing]
            doubtful = [mixture for mixture in {_NOW: 0, passing: 0} if failing and self._once(mixture)]
            steady = not steadiness.changed_when_asked_again(doubtful)
            steadiness.ask_failing_again(evidence)
            luck = steadiness.luck(evidence)
            if steady or self._ledger.runs[_NOW].failed:
                break
        return NewestVerdict(
            answer=self._answer(passing) if steady and luck <= LUCK else NewestAnswer.FLAKY,
            passing=passing,
            guilty=tuple(group for group in guilty if not group <= passing),
            kept=kept,
            runs=tuple(self._ledger.runs.items()),
            luck=luck,
            repeats=steadiness.repeats(luck),
        )

    def _answer(self, passing: Mixture) -> NewestAnswer:
        if passing == self._everything:
            return NewestAnswer.ALL
        return NewestAnswer.SOME if passing else NewestAnswer.NONE

    def _once(self, mixture: Mixture) -> bool:
        return self._ledger.runs[mixture].total == 1

    def _narrowed(self) -> tuple[Mixture, list[Mixture]]:
        """What passes when guilty groups are kept back, and these."""
        rest, guilty = self._everything, list[Mixture]()
        while rest and not self._passes([rest], "does the rest pass?")[0]:
            groups = self._search.culprit(rest).groups
            rests = {
                group: self._mixing.most(_NOW.union(*guilty, group), self._everything) for group in groups
            }
            best = min(groups, key=lambda group: (-len(rests[group] or _NOW), sorted(group)))
            guilty.append(best)
            rest = rests[best] or _NOW
            if self._jobs > 1:  # what is asked of these in the end can be tried now
                more = (self._mixing.least(rest | {name}, self._everything) for name in sorted(best))
                self._passes([rest, *(one for one in more if one)][: self._jobs], "does the rest pass?")
        return rest, guilty

    def _grown(
        self, passing: Mixture, guilty: Mixture
    ) -> tuple[Mixture, dict[NormalizedName, Mixture | None]]:
        """The same with each raise that passes upon it after all; of the others what fails with them."""
        while True:
            kept: dict[NormalizedName, Mixture | None] = {}
            left = [name for name in self._order if name not in passing]
            more = {name: self._mixing.least(passing | {name}, self._everything) for name in left}
            for names in self._batches(name for name in left if name in guilty and more[name]):
                kept.update({name: more[name] for name in names})
                if joined := self._first_passing(more[name] or _NOW for name in names):
                    break
            else:
                joined = self._of_company(left, more, kept)
            if joined is None:
                return passing, {name: kept.get(name) for name in left}
            passing = joined

    def _of_company(
        self,
        left: Iterable[NormalizedName],
        more: Mapping[NormalizedName, Mixture | None],
        kept: dict[NormalizedName, Mixture | None],
    ) -> Mixture | None:
        """Judge raises that were kept back because of others; the first mixture that passes with one."""
        for name in left:
            mixture = more[name]
            if mixture is None or name in kept:
                continue
            failing = (known for known in kept.values() if known is not None and known <= mixture)
            kept[name] = next(failing, mixture)
            if kept[name] == mixture and self._passes([mixture], "does it go along?")[0]:
                return mixture
        return None

    def _batches(self, names: Iterable[NormalizedName]) -> list[list[NormalizedName]]:
        """As many at a time as can be tried at once."""
        every = list(names)
        return [every[start : start + self._jobs] for start in range(0, len(every), self._jobs)]

    def _first_passing(self, mixtures: Iterable[Mixture]) -> Mixture | None:
        wanted = list(mixtures)
        passed = self._passes(wanted, "is it to be kept back?")
        return next((mixture for mixture, passes in zip(wanted, passed, strict=True) if passes), None)

    def _passes(self, mixtures: Sequence[Mixture], purpose: str) -> list[bool]:
        return [outcome is Outcome.PASS for outcome in self._ledger.ask(mixtures, purpose)]
