"""Whether answers hold when they are asked for again, and how likely luck alone explains them.

Further runs of mixtures that failed tell how often such a mixture fails: the run by which one was found to
fail says nothing of that.
"""

from collections.abc import Sequence
from math import ceil, log

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.outcome import Ledger, Outcome

__all__ = ["LUCK", "Steadiness"]

LUCK = 0.01  # the chance of a wrong verdict that is taken
_RARELY = 0.5  # runs that count as failed where none of the further ones has
_FURTHER = 6  # runs of failing mixtures: one that fails half of the time fails in all of them once in 64


class Steadiness:
    """Asks again for what a verdict rests upon."""

    def __init__(self, ledger: Ledger) -> None:
        self._ledger = ledger

    def changed_when_asked_again(self, mixtures: Sequence[Mixture]) -> bool:
        """Whether one of these does something else when it is tried once more."""
        before = [self._ledger.runs[mixture].outcome for mixture in mixtures]
        if mixtures:
            self._ledger.ask_again(mixtures, "once more, to be sure")
        return before != [self._ledger.runs[mixture].outcome for mixture in mixtures]

    def ask_failing_again(self, evidence: Sequence[Mixture]) -> None:
        """Run mixtures that failed further, first those of the evidence, each about as often."""
        known = dict.fromkeys((*evidence, *self._ledger.runs))
        failing = [mixture for mixture in known if self._ledger.runs[mixture].outcome is Outcome.FAIL]
        while (
            failing
            and (missing := _FURTHER - sum(self._ledger.runs[mixture].total - 1 for mixture in failing)) > 0
        ):
            failing.sort(key=lambda mixture: self._ledger.runs[mixture].total)
            self._ledger.ask_again(failing[:missing], "does it always fail?")

    def luck(self, evidence: Sequence[Mixture]) -> float:
        """The chance, at most, that a mixture of the evidence passed by luck alone."""
        passed = (self._ledger.runs[mixture] for mixture in evidence)
        return sum((1 - self._rate) ** runs.total for runs in passed if runs.outcome is Outcome.PASS)

    def repeats(self, luck: float) -> int:
        """The runs in each mixture with which the chance of luck would be small; 0 if there is none."""
        return ceil(log(LUCK) / log(1 - self._rate)) if luck else 0

    @property
    def _rate(self) -> float:
        """How often mixtures that fail do so, by all runs but the one that told of each that it fails."""
        failing = [run for run in self._ledger.runs.values() if run.outcome is Outcome.FAIL]
        failed = sum(runs.failed - 1 for runs in failing)
        passed = sum(runs.passed for runs in failing)
        return max(failed, _RARELY) / (failed + passed) if passed else 1.0
