"""Runs of a command in environments that are made for one run each, and removed again."""

import os
import re
import shutil
import threading
from collections.abc import Callable, Generator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from itertools import count
from pathlib import Path
from time import monotonic
from typing import TypeVar

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.culprit.outcome import End, Symptom
from rabbet.disk.atomic import cannot_write
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import CannotWrite, Interrupted, RabbetError
from rabbet.python.environment.place.variables import program_on, variables_inside
from rabbet.work.pools import as_finished
from rabbet.work.supervised import run_supervised
from rabbet.workspace.project import ENVIRONMENT
from rabbet.workspace.session import Session

__all__ = ["ABSENT", "RunRecord", "Runner", "TestedCommand"]

ABSENT = "is not there"  # said of a command
_LINES = 12  # of the output that are kept
_TELLING = 3  # of these, where none names an error
_ERROR = re.compile(r"(?:E\s+)?[\w.]*(?:Error|Exception|Warning)\b: ")
_FULL = 1_000_000  # bytes: a disk with less is full
_NOT_FOUND = 127  # a shell's exit code for a command that is not there

_Item = TypeVar("_Item")


class TestedCommand(Struct, frozen=True, kw_only=True):
    """The command, its folder, its limit in seconds, and the number of runs in each environment.

    The `symptom` tells its failure.
    """

    words: tuple[str, ...]
    folder: Path
    symptom: Symptom
    seconds: int
    repeat: int


class RunRecord(Struct, frozen=True, kw_only=True):
    """How the runs in one environment ended, in rounds, as they were asked for; the end of the last output.

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

    @property
    def telling(self) -> tuple[str, ...]:
        """The last line that names an error, as Python and its test runners print it; else the last lines."""
        named = [line for line in self.lines if _ERROR.match(line)]
        return tuple(named[-1:] or self.lines[-_TELLING:])

    def and_then(self, later: "RunRecord") -> "RunRecord":
        """These rounds and later ones, with the output of the latter."""
        return replace(later, rounds=(*self.rounds, *later.rounds), seconds=self.seconds + later.seconds)


class Runner:
    """Runs one command in many environments, several at once (`jobs`)."""

    def __init__(self, command: TestedCommand, session: Session, *, jobs: int) -> None:
        self.command = command
        self.changed_by_command = False
        self._session = session
        self._jobs = jobs
        self._stop = threading.Event()
        self._composing = threading.Lock()  # making one is work for one core: threads would take turns at it
        self._numbers = count(1)

    @property
    def shares(self) -> bool:
        """Whether files may be shared with the store: not if other runs could see them being changed."""
        return self._jobs == 1 or not self.changed_by_command

    def each(
        self, items: Sequence[_Item], round_of: Callable[[_Item, Path], RunRecord]
    ) -> Generator[tuple[_Item, RunRecord]]:
        """The rounds of all items as they end; whatever ends that ends all commands too."""
        with scratch_folder(self._session.machine.store_folder / "trials") as scratch:
            if len(items) == 1 or self._jobs == 1:
                for item in items:
                    yield item, round_of(item, scratch)
                return
            with ThreadPoolExecutor(self._jobs) as pool:
                jobs = {pool.submit(round_of, item, scratch): item for item in items}
                try:
                    for job in as_finished(jobs):
                        yield jobs[job], job.result()
                except BaseException:
                    self._stop.set()
                    raise

    def round(
        self, make: Callable[[Path], object], scratch: Path, *, watched: bool = False, must: bool = False
    ) -> RunRecord:
        """As many runs as are wanted at a time, each in a new environment that `make` fills.

        Of a `watched` one it is noted whether the command changes it. One that can't be made gives a reason;
        where it `must` be made, that is raised.
        """
        begun = monotonic()
        tried = RunRecord()
        ends: list[End] = []
        for _ in range(self.command.repeat):
            folder = scratch / str(next(self._numbers))
            with cannot_write(folder):
                folder.mkdir()
            end, tried = self._attempt(make, folder, watched=watched, must=must)
            ends.append(end)
        return replace(tried, rounds=(tuple(ends),), seconds=monotonic() - begun)

    def _attempt(
        self, make: Callable[[Path], object], folder: Path, *, watched: bool, must: bool
    ) -> tuple[End, RunRecord]:
        """One run in an environment that is removed again."""
        root = folder / self._session.project.folder.name / ENVIRONMENT
        try:
            with self._composing:
                with cannot_write(root):
                    root.mkdir(parents=True)
                make(root)
        except (CannotWrite, Interrupted):
            raise
        except RabbetError as error:
            if must:
                raise
            return End("lost"), RunRecord(reason="; ".join(map(str, (error, *error.because))))
        try:
            return self._run(root, folder, watched=watched)
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    def _run(self, root: Path, folder: Path, *, watched: bool) -> tuple[End, RunRecord]:
        variables = variables_inside(root, self._session.machine.environ)
        variables["TMPDIR"] = str(folder / "tmp")
        words = self.command.words
        try:
            program = program_on(variables["PATH"], words[0])
        except FileNotFoundError:
            return End("exit", _NOT_FOUND), RunRecord(reason=f"'{words[0]}' {ABSENT}")
        before = _files(root) if watched else None
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
