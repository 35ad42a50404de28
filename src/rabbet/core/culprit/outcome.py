"""The outcome of one run, and a ledger of all mixtures tried, each run once."""

from collections.abc import Callable, Mapping, Sequence
from enum import Enum, auto
from typing import Literal, TypeAlias

from msgspec import Struct

from rabbet.core.culprit.mixture import Mixture

__all__ = ["End", "Ledger", "Oracle", "Outcome", "Runs", "Symptom", "runs_of"]


class Outcome(Enum):
    """The outcomes of a command in an environment; `OTHER`: another failure, or it can't be run."""

    PASS = auto()
    FAIL = auto()
    OTHER = auto()


class End(Struct, frozen=True, array_like=True):
    """How one run ended: by an exit code, by a signal's number, or because its time was up.

    It was `lost` where the command could not be run, or nobody saw its end. `shows`: the text that was looked
    for is in its output.
    """

    how: Literal["exit", "signal", "time", "lost"]
    number: int = 0
    shows: bool = False

    @property
    def code(self) -> int:
        """The exit code as a shell reports it."""
        return {"exit": self.number, "signal": 128 + self.number, "time": 124}.get(self.how, -1)

    def __str__(self) -> str:
        """Such as `exit code 1`."""
        if self.how in ("exit", "signal"):
            return f"{'exit code' if self.how == 'exit' else 'signal'} {self.number}"
        return "out of time" if self.how == "time" else "an unknown end"


class Symptom(Struct, frozen=True, kw_only=True):
    """The mark by which the wanted failure is told from others.

    That is a `text` in the output, an exit code, or both. Where nothing was said, it is `how` the command
    ended in the bad state: by any exit code but 0, by a signal, or because its time was up. With `anything`
    all that does not pass counts, also what can't be made or run.
    """

    text: str = ""
    code: int | None = None
    how: str = ""
    anything: bool = False

    def judge(self, end: End) -> Outcome:
        """The outcome of one run."""
        if self.anything:
            return Outcome.PASS if end.how == "exit" and end.number == 0 else Outcome.FAIL
        if end.how == "lost":
            return Outcome.OTHER
        if self._is_meant(end):
            return Outcome.FAIL
        return Outcome.PASS if end.how == "exit" and end.number == 0 and not end.shows else Outcome.OTHER

    def _is_meant(self, end: End) -> bool:
        if self.code is not None:
            return end.code == self.code and (end.shows or not self.text)
        if self.text:
            return end.shows
        return end.how == (self.how or end.how) and end.code != 0


class Runs(Struct, frozen=True):
    """How often the command passed in one environment, how often it failed, and how often it did neither."""

    passed: int = 0
    failed: int = 0
    other: int = 0

    @property
    def outcome(self) -> Outcome:
        """One that fails at times is one that fails."""
        if self.failed:
            return Outcome.FAIL
        return Outcome.OTHER if self.other or not self.passed else Outcome.PASS

    @property
    def flaky(self) -> bool:
        """Whether the same environment did one thing and then another."""
        return (self.passed > 0) + (self.failed > 0) + (self.other > 0) > 1

    @property
    def total(self) -> int:
        """How many runs there were."""
        return self.passed + self.failed + self.other

    def __add__(self, more: "Runs") -> "Runs":
        """These runs and more of the same environment."""
        return Runs(self.passed + more.passed, self.failed + more.failed, self.other + more.other)


def runs_of(outcomes: "list[Outcome]") -> Runs:
    """Counted by what they say."""
    return Runs(*(outcomes.count(outcome) for outcome in (Outcome.PASS, Outcome.FAIL, Outcome.OTHER)))


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
        """The outcomes of these mixtures; unknown ones are tried."""
        unknown = [fromkey for fromkey in dict.fromkeys(mixtures) if fromkey not in self._runs]
        if unknown:
            self._runs.update(zip(unknown, self._oracle(unknown, purpose), strict=True))
        return [self._runs[mixture].outcome for mixture in mixtures]

    def ask_again(self, mixtures: Sequence[Mixture], purpose: str) -> None:
        """Try them once more, whatever they did before; what they do then is added to that."""
        for mixture, runs in zip(mixtures, self._oracle(mixtures, purpose), strict=True):
            self._runs[mixture] = self._runs[mixture] + runs

    def knows(self, mixture: Mixture) -> bool:
        """Whether it was tried."""
        return mixture in self._runs
