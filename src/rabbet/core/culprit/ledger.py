"""What every mixture that was tried did, each asked for once."""

from collections.abc import Callable, Mapping, Sequence
from typing import TypeAlias

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.outcome import Outcome, Runs

__all__ = ["Ledger", "Oracle"]

Oracle: TypeAlias = Callable[[Sequence[Mixture], str], Sequence[Runs]]
"""Tries these mixtures, all at once if it can; it is also told what for, such as `12 suspects left`."""


class Ledger:
    """Asks the oracle, and remembers its answers."""

    def __init__(self, oracle: Oracle) -> None:
        self._oracle = oracle
        self._runs: dict[Mixture, Runs] = {}

    @property
    def runs(self) -> Mapping[Mixture, Runs]:
        """All answers, in the order in which they were asked for."""
        return self._runs

    def ask(self, mixtures: Sequence[Mixture], purpose: str) -> list[Outcome]:
        """What these mixtures do; those that are not known are tried."""
        unknown = [one for one in dict.fromkeys(mixtures) if one not in self._runs]
        if unknown:
            self._runs.update(zip(unknown, self._oracle(unknown, purpose), strict=True))
        return [self._runs[one].outcome for one in mixtures]

    def ask_again(self, mixtures: Sequence[Mixture], purpose: str) -> None:
        """Try them once more, whatever they did before; what they do then is added to that."""
        for one, runs in zip(mixtures, self._oracle(mixtures, purpose), strict=True):
            self._runs[one] = self._runs[one] + runs

    def knows(self, mixture: Mixture) -> bool:
        """Whether it was tried."""
        return mixture in self._runs
