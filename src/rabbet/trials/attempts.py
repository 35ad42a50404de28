"""Runs of a command in mixtures of two states, each in an environment of its own for that once."""

import os
import shutil
import threading
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import count
from pathlib import Path
from time import monotonic

import msgspec
from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.outcome import End, Outcome, Runs, Symptom, runs_of
from rabbet.core.model.lock import Needed
from rabbet.disk.atomic import cannot_write
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import CannotWrite, Interrupted, RabbetError
from rabbet.python.environment.place.variables import program_on, variables_inside
from rabbet.store.blob_cache import BlobCache
from rabbet.trials.compose import bring, compose_mixture
from rabbet.trials.two_states import TwoStates
from rabbet.work.pools import as_finished
from rabbet.work.supervised import run_supervised
from rabbet.workspace.project import ENVIRONMENT
from rabbet.workspace.session import Session

__all__ = ["ABSENT", "SEARCHES", "Attempts", "RunRecord", "TestedCommand"]

ABSENT = "is not there"  # said of a command
SEARCHES = "searches"  # the memory of what was tried
_GOOD = Mixture()
_LINES = 12  # of the output that are shown
_FULL = 1_000_000  # bytes: a disk with less is full
_NOT_FOUND = 127  # a shell's exit code for a command that is not there


class TestedCommand(Struct, frozen=True, kw_only=True):
    """The command, its folder, its limit in seconds, and the number of runs in each mixture.

    The `symptom` tells its failure.
    """

    words: tuple[str, ...]
    folder: Path
    symptom: Symptom
    seconds: int
    repeat: int


class RunRecord(Struct, frozen=True, kw_only=True):
    """How the runs in one mixture ended, in rounds, as they were asked for; and the end of the last output.

    There is a `reason` where the command could not be run, or its end not be seen.
    """

    rounds: tuple[tuple[End, ...], ...] = ()
    lines: tuple[str, ...] = ()
    reason: str = ""
    seconds: float = 0.0

    @property
    def ends(self) -> list[End]:
        """All of them."""
        return [end for ends in self.rounds for end in ends]


_KEPT = msgspec.json.Decoder(list[tuple[tuple[str, ...], RunRecord]])


class Attempts:
    """Tries mixtures, and remembers what they did until the search has come to its end (it is an `Oracle`).

    What was remembered of an interrupted search under the same `key` is not tried again.
    """

    def __init__(
        self, two: TwoStates, command: TestedCommand, session: Session, *, jobs: int, key: str
    ) -> None:
        self.command = command
        self.changed_by_command = False
        self._two = two
        self._session = session
        self._jobs = jobs
        self._key = key
        self._stop = threading.Event()
        self._composing = threading.Lock()  # making one is work for one core: threads would take turns at it
        self._numbers = count(1)
        self._wheels: dict[tuple[NormalizedName, int], Needed] = {}
        self._asked: dict[Mixture, int] = {}
        self._tried = self._remembered()
        self.recalled = sum(len(run.rounds) for run in self._tried.values())

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

    @property
    def _shares(self) -> bool:
        """Whether files may be shared with the store: not if other runs could see them being changed."""
        return self._jobs == 1 or not self.changed_by_command

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
        """Try them, several at once; whatever ends that ends all their commands too."""
        with scratch_folder(self._session.machine.store_folder / "trials") as scratch:
            if len(mixtures) == 1 or self._jobs == 1:
                for mixture in mixtures:
                    self._keep(mixture, self._round(mixture, scratch))
                return
            with ThreadPoolExecutor(self._jobs) as pool:
                jobs = {pool.submit(self._round, mixture, scratch): mixture for mixture in mixtures}
                try:
                    for job in as_finished(jobs):
                        self._keep(jobs[job], job.result())
                except BaseException:
                    self._stop.set()
                    raise

    def _keep(self, mixture: Mixture, tried: RunRecord) -> None:
        """Note a round, also for a search that goes on another time."""
        before = self._tried.get(mixture, RunRecord())
        self._tried[mixture] = replace(
            tried, rounds=(*before.rounds, *tried.rounds), seconds=before.seconds + tried.seconds
        )
        kept = [(tuple(sorted(names)), record) for names, record in self._tried.items()]
        self._memory.remember(self._key, msgspec.json.encode(kept))

    def _judge_by_bad_state(self) -> None:
        """Where nobody said how the failure looks, it ends as the bad state's does."""
        bad, symptom = self._tried.get(frozenset(self._two.changes)), self.command.symptom
        if bad and not symptom.how:
            failed = [end.how for end in bad.ends if symptom.judge(end) is Outcome.FAIL]
            if failed:
                self.command = replace(self.command, symptom=replace(symptom, how=failed[0]))

    def _round(self, mixture: Mixture, scratch: Path) -> RunRecord:
        """As many runs as are wanted at a time, each in a new environment."""
        begun = monotonic()
        tried = RunRecord()
        ends: list[End] = []
        for _ in range(self.command.repeat):
            folder = scratch / str(next(self._numbers))
            with cannot_write(folder):
                folder.mkdir()
            end, tried = self._attempt(mixture, folder)
            ends.append(end)
        return replace(tried, rounds=(tuple(ends),), seconds=monotonic() - begun)

    def _attempt(self, mixture: Mixture, folder: Path) -> tuple[End, RunRecord]:
        """One run in an environment that is removed again."""
        root = folder / self._session.project.folder.name / ENVIRONMENT
        try:
            with self._composing:
                self._compose(mixture, root)
        except (CannotWrite, Interrupted):
            raise
        except RabbetError as error:
            if len(mixture) in (0, len(self._two.changes)):
                raise
            return End("lost"), RunRecord(reason="; ".join(map(str, (error, *error.because))))
        try:
            return self._run(mixture, root, folder)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _compose(self, mixture: Mixture, root: Path) -> None:
        """Make the environment; what fetching does is told of the two states alone."""
        with cannot_write(root):
            root.mkdir(parents=True)
        is_state = len(mixture) in (0, len(self._two.changes)) and mixture not in self._tried
        session = self._session if is_state else self._session.silent()
        made = compose_mixture(self._two, mixture, root, session, share=self._shares)
        self._wheels.update({(wheel.locked.name, len(mixture)): wheel for wheel in made.wheels if is_state})

    def _bring(self, mixture: Mixture) -> None:
        with suppress(RabbetError):  # making the environment fails with it again, and reports it
            bring(self._two, mixture, self._session)

    def _run(self, mixture: Mixture, root: Path, folder: Path) -> tuple[End, RunRecord]:
        variables = variables_inside(root, self._session.machine.environ)
        variables["TMPDIR"] = str(folder / "tmp")
        words = self.command.words
        try:
            program = program_on(variables["PATH"], words[0])
        except FileNotFoundError:
            return End("exit", _NOT_FOUND), RunRecord(reason=f"'{words[0]}' {ABSENT}")
        before = _files(root) if mixture == _GOOD else None
        with cannot_write(folder):
            (folder / "tmp").mkdir()
        ending = run_supervised(
            [program, *words[1:]],
            variables,
            self.command.folder,
            log=folder / "output",
            seconds=self.command.seconds,
            waiting=self._waiting,
        )
        if before is not None and before != _files(root):
            self.changed_by_command = True
        shows = bool(self.command.symptom.text) and self.command.symptom.text in ending.output
        end = End(ending.how, ending.number, shows)
        if end.code != 0 and shutil.disk_usage(self._session.machine.store_folder).free < _FULL:
            raise CannotWrite(
                "the disk is full, so that nobody can tell why the command fails",
                because=[str(self._session.machine.store_folder)],
                note="what the command wrote there is removed; the same command again goes on from here",
            )
        reason = ending.reason if ending.how == "lost" else ""
        lines = (line.replace(str(root), ENVIRONMENT) for line in ending.last_lines(_LINES))
        return end, RunRecord(lines=tuple(lines), reason=reason)

    def _waiting(self, seconds: int) -> None:
        if self._stop.is_set():
            raise Interrupted("interrupted")
        self._session.observer.waiting(f"the command, {seconds} s")


def _files(root: Path) -> frozenset[tuple[str, int, int]]:
    """An environment's files with sizes and times, but for what Python compiles on the way."""
    found = set()
    for folder, folders, names in os.walk(root):
        folders[:] = [folder for folder in folders if folder != "__pycache__"]
        for name in names:
            with suppress(OSError):
                state = os.lstat(f"{folder}/{name}")
                found.add((f"{folder}/{name}", state.st_size, state.st_mtime_ns))
    return frozenset(found)
