"""Runs of a command in mixtures of two states, each in an environment of its own for that once."""

import threading
from collections.abc import Mapping, Sequence
from contextlib import closing, suppress
from functools import partial
from pathlib import Path

import msgspec
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.outcome import Outcome, Runs, runs_of
from rabbet.core.model.lock import Needed
from rabbet.errors import RabbetError
from rabbet.store.blob_cache import BlobCache
from rabbet.trials.compose import bring, compose_mixture
from rabbet.trials.runner import Runner, RunRecord, TestedCommand
from rabbet.trials.two_states import TwoStates
from rabbet.workspace.session import Session

__all__ = ["SEARCHES", "Attempts"]

SEARCHES = "searches"  # the memory of what was tried
_GOOD = Mixture()


_KEPT = msgspec.json.Decoder(list[tuple[tuple[str, ...], RunRecord]])


class Attempts:
    """Tries mixtures, and remembers what they did until the search has come to its end (it is an `Oracle`).

    What was remembered of an interrupted search under the same `key` is not tried again.
    """

    def __init__(
        self, two: TwoStates, command: TestedCommand, session: Session, *, jobs: int, key: str
    ) -> None:
        self.runner = Runner(command, session, jobs=jobs)
        self._two = two
        self._session = session
        self._key = key
        self._wheels: dict[tuple[NormalizedName, int], Needed] = {}
        self._asked: dict[Mixture, int] = {}
        self._tried = self._remembered()
        self.recalled = sum(len(run.rounds) for run in self._tried.values())

    @property
    def command(self) -> TestedCommand:
        """The command, and how its failure is told."""
        return self.runner.command

    @property
    def tried(self) -> Mapping[Mixture, RunRecord]:
        """Everything that was tried."""
        return self._tried

    def __call__(self, mixtures: Sequence[Mixture], purpose: str) -> list[Runs]:
        """See `Oracle`. Raises `CannotWrite`, and what making one of the two states raises."""
        rounds = [self._next_round(mixture) for mixture in mixtures]
        due = [
            mixture
            for mixture, number in zip(mixtures, rounds, strict=True)
            if number >= self._known(mixture)
        ]
        if due:
            self._session.observer.stage(purpose)
            self._try_all(due)
        self._judge_by_bad_state()
        symptom = self.command.symptom
        return [
            runs_of([symptom.judge(end) for end in self._tried[mixture].rounds[number]])
            for mixture, number in zip(mixtures, rounds, strict=True)
        ]

    def forget(self) -> None:
        """Remember nothing of it: the search has come to its end."""
        self._memory.forget(self._key)

    def prepare(self, states: Sequence[Mixture]) -> None:
        """Try both states, the good one first; what the bad one needs is fetched meanwhile."""
        due = [state for state in states if not self._known(state)]
        for mixture in due:
            if mixture != due[-1]:
                threading.Thread(target=self._bring, args=[due[-1]], daemon=True).start()
            self._session.observer.stage(f"trying the {'good' if mixture == _GOOD else 'bad'} state")
            self._try_all([mixture])

    def wheel_of(self, name: NormalizedName, number: int) -> Needed | None:
        """The wheel that a library of the good state (0) or of the bad one (1) was installed from."""
        return self._wheels.get((name, number * len(self._two.changes)))

    @property
    def _memory(self) -> BlobCache:
        return self._session.machine.memory(SEARCHES)

    def _remembered(self) -> dict[Mixture, RunRecord]:
        with suppress(msgspec.MsgspecError):
            kept = _KEPT.decode(self._memory.recall(self._key) or b"[]")
            return {frozenset(map(NormalizedName, names)): tried for names, tried in kept}
        return {}

    def _next_round(self, mixture: Mixture) -> int:
        number = self._asked.get(mixture, 0)
        self._asked[mixture] = number + 1
        return number

    def _known(self, mixture: Mixture) -> int:
        return len(self._tried[mixture].rounds) if mixture in self._tried else 0

    def _try_all(self, mixtures: Sequence[Mixture]) -> None:
        """Try them, several at once, and note each round, also for a search that goes on another time."""
        with closing(self.runner.each(mixtures, self._round)) as rounds:
            for mixture, tried in rounds:
                self._tried[mixture] = self._tried.get(mixture, RunRecord()).and_then(tried)
                kept = [(tuple(sorted(names)), record) for names, record in self._tried.items()]
                self._memory.remember(self._key, msgspec.json.encode(kept))

    def _judge_by_bad_state(self) -> None:
        """Where nobody said how the failure looks, it ends as the bad state's does."""
        bad, symptom = self._tried.get(frozenset(self._two.changes)), self.command.symptom
        if bad and not symptom.how:
            failed = [end.how for end in bad.ends if symptom.judge(end) is Outcome.FAIL]
            if failed:
                self.runner.command = replace(self.command, symptom=replace(symptom, how=failed[0]))

    def _round(self, mixture: Mixture, scratch: Path) -> RunRecord:
        is_state = len(mixture) in (0, len(self._two.changes))
        make = partial(self._compose, mixture, is_state=is_state)
        return self.runner.round(make, scratch, watched=mixture == _GOOD, must=is_state)

    def _compose(self, mixture: Mixture, root: Path, *, is_state: bool) -> None:
        """Make the environment; what fetching does is told of the two states alone."""
        first = is_state and mixture not in self._tried
        session = self._session if first else self._session.silent()
        made = compose_mixture(self._two, mixture, root, session, share=self.runner.shares)
        self._wheels.update({(wheel.locked.name, len(mixture)): wheel for wheel in made.wheels if first})

    def _bring(self, mixture: Mixture) -> None:
        with suppress(RabbetError):  # making the environment fails with it again, and reports it
            bring(self._two, mixture, self._session)
