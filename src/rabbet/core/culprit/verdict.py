"""The whole search between two states: both are tried, culprits are found, and the answer is held to account.

One culprit may hide another one, so the changes without it are tried too: if they fail, the search goes on
among them, and if they pass, all of them are proven innocent. In the end every answer of the oracle has to
agree with the culprits. What does not is tried again: a command that then answers otherwise is flaky, and of
a flaky one nothing is said that luck could explain.
"""

from collections.abc import Sequence
from enum import StrEnum

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixing, Mixture
from rabbet.core.culprit.outcome import Ledger, Oracle, Outcome, Runs
from rabbet.core.culprit.search import Culprit, Search
from rabbet.core.culprit.steadiness import LUCK, Steadiness

__all__ = ["CulpritVerdict", "SearchAnswer", "find_culprits"]

_GOOD = Mixture()
_ROUNDS = 3  # how often a search starts again after answers that do not go together


class SearchAnswer(StrEnum):
    """The results of a search."""

    FOUND = "found"
    NO_DIFFERENCE = "no-difference"
    BOTH_PASS = "both-pass"  # noqa: S105 - no password
    BOTH_FAIL = "both-fail"
    REVERSED = "reversed"
    UNTELLABLE = "untellable"  # in one of the states the command neither passes nor shows the failure
    FLAKY = "flaky"


class CulpritVerdict(Struct, frozen=True, kw_only=True):
    """The answer, the culprits (of a flaky command: the suspects), and what each mixture did.

    The `innocent` changes were taken over, all at once, and the command passed. `odd` mixtures answered
    otherwise than the culprits would have it, and did so again. `luck` is the chance, at most, that one of
    the mixtures which the verdict rests upon passed by luck alone; with so many `repeats` it would be small.
    """

    answer: SearchAnswer
    culprits: tuple[Culprit, ...] = ()
    innocent: Mixture = _GOOD
    odd: tuple[Mixture, ...] = ()
    runs: tuple[tuple[Mixture, Runs], ...] = ()
    luck: float = 0.0
    repeats: int = 0


def find_culprits(
    order: Sequence[NormalizedName], mixing: Mixing, oracle: Oracle, *, jobs: int = 1
) -> CulpritVerdict:
    """Find what among these changes makes the command fail.

    `order` are all changes, those before others that others need. With a command that always answers alike,
    and fails wherever it fails with less, each culprit is a smallest failing mixture that is consistent. A
    single guilty change among n takes 4 + log2(n) trials, both states included.
    """
    everything = frozenset(order)
    if not everything:
        return CulpritVerdict(answer=SearchAnswer.NO_DIFFERENCE)
    ledger = Ledger(oracle)
    ledger.ask([_GOOD, everything], "both states")
    answer = _answer(ledger.runs[_GOOD], ledger.runs[everything])
    if answer is not SearchAnswer.FOUND:
        return CulpritVerdict(answer=answer, runs=tuple(ledger.runs.items()))
    return _Case(order, mixing, ledger, jobs).verdict()


def _answer(good: Runs, bad: Runs) -> SearchAnswer:
    """The answer from the two states alone; `FOUND` means that a search is worthwhile."""
    if good.failed and good.passed:
        return SearchAnswer.FLAKY
    told = {
        (Outcome.PASS, Outcome.FAIL): SearchAnswer.FOUND,
        (Outcome.PASS, Outcome.PASS): SearchAnswer.BOTH_PASS,
        (Outcome.FAIL, Outcome.FAIL): SearchAnswer.BOTH_FAIL,
        (Outcome.FAIL, Outcome.PASS): SearchAnswer.REVERSED,
    }
    return told.get((good.outcome, bad.outcome), SearchAnswer.UNTELLABLE)


class _Case:
    """Two states of which one passes and the other one fails."""

    def __init__(self, order: Sequence[NormalizedName], mixing: Mixing, ledger: Ledger, jobs: int) -> None:
        self._everything = frozenset(order)
        self._mixing = mixing
        self._ledger = ledger
        self._search = Search(order, mixing, ledger, jobs)
        self._steadiness = Steadiness(ledger)

    def verdict(self) -> CulpritVerdict:
        """Search, and search again where an answer changed when it was asked for again."""
        changes = 0
        while True:
            culprits = self._culprits()
            odd = self._odd(culprits)
            doubtful = [
                mixture for mixture in self._evidence(culprits) if self._ledger.runs[mixture].total == 1
            ]
            steady = not self._steadiness.changed_when_asked_again([*odd, *doubtful])
            self._steadiness.ask_failing_again(self._evidence(culprits))
            if self._ledger.runs[_GOOD].failed:
                return CulpritVerdict(answer=SearchAnswer.FLAKY, runs=tuple(self._ledger.runs.items()))
            changes += not steady
            unexplained = any(map(self._always_fails, odd))  # the next search begins with these
            if changes == _ROUNDS or (steady and not unexplained):
                break
        luck = self._steadiness.luck(self._evidence(culprits))
        steady = steady and all(self._ledger.runs[mixture].outcome is Outcome.PASS for mixture in odd)
        return CulpritVerdict(
            answer=SearchAnswer.FOUND if steady and luck <= LUCK else SearchAnswer.FLAKY,
            culprits=tuple(culprits),
            innocent=self._innocent(culprits),
            odd=tuple(odd),
            runs=tuple(self._ledger.runs.items()),
            luck=luck,
            repeats=self._steadiness.repeats(luck),
        )

    def _evidence(self, culprits: Sequence[Culprit]) -> list[Mixture]:
        """The mixtures that were tried and that the verdict rests upon."""
        found = dict.fromkeys(
            mixture
            for culprit in culprits
            for mixture in (
                culprit.failing,
                culprit.passing,
                *(culprit.failing - group for group in culprit.groups),
            )
        )
        return [mixture for mixture in found if self._ledger.knows(mixture)]

    def _culprits(self) -> list[Culprit]:
        """One after the other, until the changes without them pass, and every mixture that fails has one."""
        failing: Mixture | None = self._everything
        found: list[Culprit] = []
        while failing:
            found.append(self._search.culprit(failing))
            failing = self._unexplained(found)
        return found

    def _unexplained(self, culprits: Sequence[Culprit]) -> Mixture | None:
        """A mixture that fails without any of these culprits."""
        rest = self._mixing.most(_guilty(culprits), self._everything)
        if rest and self._ledger.ask([rest], "are the others innocent?") == [Outcome.FAIL]:
            return rest
        return next(filter(self._always_fails, self._odd(culprits)), None)

    def _always_fails(self, mixture: Mixture) -> bool:
        """Whether it failed more than once, and did nothing else."""
        runs = self._ledger.runs[mixture]
        return runs.failed == runs.total > 1

    def _odd(self, culprits: Sequence[Culprit]) -> list[Mixture]:
        """Mixtures that fail without any culprit, which a steady command never does, or pass with one."""

        def is_odd(mixture: Mixture, outcome: Outcome) -> bool:
            if outcome is Outcome.FAIL:
                return not any(culprit.guilty <= mixture for culprit in culprits)
            return outcome is Outcome.PASS and any(
                culprit.guilty | culprit.unclear <= mixture for culprit in culprits
            )

        return [mixture for mixture, runs in self._ledger.runs.items() if is_odd(mixture, runs.outcome)]

    def _innocent(self, culprits: Sequence[Culprit]) -> Mixture:
        """Changes of passing mixtures, which are not guilty."""
        passed = (mixture for mixture, runs in self._ledger.runs.items() if runs.outcome is Outcome.PASS)
        return _GOOD.union(*passed) - _guilty(culprits)


def _guilty(culprits: Sequence[Culprit]) -> Mixture:
    return _GOOD.union(*(culprit.guilty for culprit in culprits))
