"""What a command did in combinations that were tried; it is remembered, so that nothing is tried twice.

A combination is known by its content, the command, and the project's code and declaration: another search, or
the same one that was interrupted, goes on from there.
"""

import hashlib
import threading
from collections.abc import Mapping, Sequence
from contextlib import closing, suppress
from functools import partial
from pathlib import Path

import msgspec
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.outcome import End, Outcome, Runs, Symptom, runs_of
from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.model.lock import Needed
from rabbet.disk.regular_file import read_regular
from rabbet.errors import RabbetError
from rabbet.proving.combination import Combination, bring, compose_combination
from rabbet.proving.runner import Runner, RunRecord, TestedCommand
from rabbet.proving.two_states import TwoStates
from rabbet.workspace.evidence.source_files import source_state
from rabbet.workspace.session import Session

__all__ = ["PROOFS", "SEARCHES", "Attempts", "MixtureOracle"]

SEARCHES = "searches"  # the memory of culprits' searches, until they have come to their end
PROOFS = "proofs"  # the memory of what was proven
_KEPT = msgspec.json.Decoder(RunRecord)


class Attempts:
    """Tries combinations for one command; each question is one round of runs.

    Rounds that are in the `memory` are not run again, unless all is to be tried `afresh`. Of `required`
    combinations a failure to make them is raised, and fetching for them is told.
    """

    def __init__(
        self, command: TestedCommand, session: Session, *, jobs: int, memory: str, afresh: bool = False
    ) -> None:
        self.runner = Runner(command, session, jobs=jobs)
        self.recalled = 0
        self._session = session
        self._memory = session.machine.memory(memory)
        self._afresh = afresh
        self._situation = _situation(command, session)
        self._required: set[str] = set()
        self._watched = ""
        self._wheels: dict[tuple[str, NormalizedName], Needed] = {}
        self._asked: dict[str, int] = {}
        self._before: dict[str, int] = {}
        self._tried: dict[str, RunRecord] = {}

    def require(self, *combinations: Combination) -> None:
        """Raise where one of these can't be made; whether the command changes the first one is noted."""
        keys = [self._key(combination) for combination in combinations]
        self._required.update(keys)
        self._watched = keys[0]

    def record(self, combination: Combination) -> RunRecord | None:
        """What is known of a combination; `None` for one that was not tried."""
        return self._tried.get(self._key(combination))

    def wheel_of(self, combination: Combination, name: NormalizedName) -> Needed | None:
        """The wheel that a library of a required combination was installed from in this search."""
        return self._wheels.get((self._key(combination), name))

    @property
    def environments(self) -> int:
        """How many combinations were asked about."""
        return len(self._asked)

    @property
    def runs(self) -> int:
        """How often the command was run for these, today or before."""
        return sum(
            len(ends) for key, asked in self._asked.items() for ends in self._tried[key].rounds[:asked]
        )

    def ask(self, combinations: Sequence[Combination], purpose: str) -> list[tuple[End, ...]]:
        """How the next round of each ends. Raises `CannotWrite`, and what making a required one raises."""
        by_key = {self._key(combination): combination for combination in combinations}
        rounds = {key: self._next_round(key) for key in by_key}
        due = [key for key, number in rounds.items() if number >= self._known(key)]
        self.recalled += sum(
            len(self._tried[key].rounds[number])
            for key, number in rounds.items()
            if number < self._before[key]
        )
        if due:
            self._session.observer.stage(purpose)
            self._try_all({key: by_key[key] for key in due})
        return [self._tried[key].rounds[rounds[key]] for key in map(self._key, combinations)]

    def passes(self, combinations: Sequence[Combination], purpose: str) -> list[bool]:
        """Whether all runs of the next round of each end with exit code 0. Raises as `ask`."""
        rounds = self.ask(combinations, purpose) if combinations else []
        return [all(map(_is_pass, ends)) for ends in rounds]

    def passed(self, combination: Combination) -> bool:
        """Whether a combination was tried, and all runs ended with exit code 0."""
        record = self.record(combination)
        return record is not None and all(map(_is_pass, record.ends))

    def prepare(self, combinations: Sequence[Combination], purposes: Sequence[str]) -> None:
        """Try what is not known, one after the other, and fetch what the last one needs meanwhile."""
        due = [
            (combination, purpose)
            for combination, purpose in zip(combinations, purposes, strict=True)
            if not self._known(self._key(combination))
        ]
        for combination, purpose in due:
            if combination is not due[-1][0]:
                threading.Thread(target=self._bring, args=[due[-1][0]], daemon=True).start()
            self._session.observer.stage(purpose)
            self._try_all({self._key(combination): combination})

    def prepare_at_once(self, combinations: Sequence[Combination], purpose: str) -> None:
        """Try all of these that are not known, as many at once as there are jobs for."""
        by_key = {self._key(combination): combination for combination in combinations}
        due = {key: made for key, made in by_key.items() if not self._known(key)}
        if due:
            self._session.observer.stage(purpose)
            self._try_all(due)

    def forget(self) -> None:
        """Remember nothing of what was tried: the search has come to its end."""
        for key in self._tried:
            self._memory.forget(key)

    def _key(self, combination: Combination) -> str:
        return hashlib.sha256(repr([self._situation, combination.content]).encode()).hexdigest()

    def _next_round(self, key: str) -> int:
        self._known(key)
        number = self._asked.get(key, 0)
        self._asked[key] = number + 1
        return number

    def _known(self, key: str) -> int:
        """How many rounds of a combination are known."""
        if key not in self._before:
            with suppress(msgspec.MsgspecError):
                self._tried[key] = _KEPT.decode((not self._afresh and self._memory.recall(key)) or b"")
            self._before[key] = len(self._tried[key].rounds) if key in self._tried else 0
        return len(self._tried[key].rounds) if key in self._tried else 0

    def _try_all(self, combinations: Mapping[str, Combination]) -> None:
        """Try them, several at once, and note each round, also for a search that goes on another time."""

        def round_of(key: str, scratch: Path) -> RunRecord:
            make = partial(self._compose, key, combinations[key])
            required = key in self._required
            return self.runner.round(make, scratch, watched=key == self._watched, must=required)

        with closing(self.runner.each([*combinations], round_of)) as rounds:
            for key, tried in rounds:
                self._tried[key] = self._tried.get(key, RunRecord()).and_then(tried)
                if not tried.reason:  # what could not be made or seen is tried again another time
                    self._memory.remember(key, msgspec.json.encode(self._tried[key]))

    def _compose(self, key: str, combination: Combination, root: Path) -> None:
        """Make the environment; what fetching does is told of required ones alone."""
        first = key in self._required and key not in self._tried
        session = self._session if first else self._session.silent()
        made = compose_combination(combination, root, session, share=self.runner.shares)
        self._wheels.update({(key, wheel.locked.name): wheel for wheel in made.wheels if first})

    def _bring(self, combination: Combination) -> None:
        with suppress(RabbetError):  # making the environment fails with it again, and reports it
            bring(combination, self._session)


def _is_pass(end: End) -> bool:
    return end.how == "exit" and end.number == 0


def _situation(command: TestedCommand, session: Session) -> list[object]:
    """All that the outcome follows from beside the combination, as far as it is looked at."""
    project = session.project
    declared = b""
    with suppress(OSError):
        declared = read_regular(project.declaration_file, most=MOST_BY_HAND)
    return [
        [*command.words],
        str(command.folder),
        str(command.symptom),
        command.seconds,
        command.repeat,
        source_state(project.folder),
        hashlib.sha256(declared).hexdigest(),
    ]


class MixtureOracle:
    """Tries mixtures of two states (it is an `Oracle`).

    Where nobody said how the failure looks, it ends as the bad state's does.
    """

    def __init__(self, two: TwoStates, attempts: Attempts, symptom: Symptom) -> None:
        self.symptom = symptom
        self._two = two
        self._attempts = attempts
        self._asked: dict[Mixture, Combination] = {}

    @property
    def tried(self) -> Mapping[Mixture, RunRecord]:
        """What was tried, in the order in which it was asked for."""
        found = {mixture: self._attempts.record(made) for mixture, made in self._asked.items()}
        return {mixture: record for mixture, record in found.items() if record is not None}

    def wheel_of(self, name: NormalizedName, number: int) -> Needed | None:
        """The wheel that a library of the good state (0) or of the bad one (1) was installed from."""
        mixture = frozenset(self._two.changes) if number else Mixture()
        return self._attempts.wheel_of(self._two.combination(mixture), name)

    def __call__(self, mixtures: Sequence[Mixture], purpose: str) -> list[Runs]:
        """See `Oracle`. Raises as `Attempts.ask`."""
        for mixture in mixtures:
            self._asked.setdefault(mixture, self._two.combination(mixture))
        rounds = self._attempts.ask([self._asked[mixture] for mixture in mixtures], purpose)
        self._judge_by_bad_state()
        return [runs_of([self.symptom.judge(end) for end in ends]) for ends in rounds]

    def _judge_by_bad_state(self) -> None:
        bad = self.tried.get(frozenset(self._two.changes))
        if bad and not (self.symptom.how or self.symptom.anything):
            failed = [end.how for end in bad.ends if self.symptom.judge(end) is Outcome.FAIL]
            if failed:
                self.symptom = replace(self.symptom, how=failed[0])
