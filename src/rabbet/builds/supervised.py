"""Run a command that nobody vouches for: with a time limit, its output in a file, no process left of it."""

import os
import secrets
import select
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Literal

from msgspec import Struct

from rabbet.builds import supervisor
from rabbet.errors import CannotWrite

__all__ = ["Ending", "run_supervised"]

_PAUSE = 0.5  # seconds after which it is told that the command still runs
_SHORT_PAUSE = 0.02  # seconds until processes that were ended are gone
_LONGEST_LINE = 300
_MARK = "RABBET_SUPERVISED"  # a variable that tells which processes a command has started


class Ending(Struct, frozen=True, kw_only=True):
    """How a command ended, and where its output is; one that was ended, for that `reason`, has no `code`.

    That is by itself, by a signal with a `number`, because its `time` was up, or in a way that was `lost`.
    """

    how: Literal["exit", "signal", "time", "lost"]
    number: int
    reason: str
    log: Path

    @property
    def code(self) -> int | None:
        """Its exit code."""
        return self.number if self.how == "exit" else None

    def last_lines(self, most: int) -> list[str]:
        """The end of its output, without blank lines."""
        try:
            text = self.log.read_bytes()[-most * _LONGEST_LINE :].decode("utf-8", "replace")
        except OSError:
            return []
        return [line.rstrip()[:_LONGEST_LINE] for line in text.splitlines() if line.strip()][-most:]


def run_supervised(
    command: Sequence[str],
    environ: Mapping[str, str],
    folder: Path,
    *,
    log: Path,
    seconds: int,
    waiting: Callable[[int], None],
) -> Ending:
    """Run a command to its end; `waiting` is told for how many seconds it has run.

    If this process is interrupted or killed, the command and all that it started ends as well.
    Raises `CannotWrite` where its output can't be written.
    """
    program = [sys.executable, "-I", "-S", supervisor.__file__, str(seconds), str(log), *command]
    mark = secrets.token_hex()
    try:
        process = subprocess.Popen(
            program,
            env={**environ, _MARK: mark},
            cwd=folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
    except OSError as error:
        raise CannotWrite("no process can be started", because=[error.strerror or str(error)]) from error
    with process:
        told = _told_by(process, waiting)
    if told == "unwritable":
        raise CannotWrite(f"{log} can't be written", because=["the disk may be full"])
    how, _, number = told.partition(" ")
    if how == "exit":
        return Ending(how="exit", number=int(number), reason=f"it ended with exit code {number}", log=log)
    if how == "signal":
        return Ending(how="signal", number=int(number), reason=f"signal {number} ended it", log=log)
    if how == "time":
        return Ending(how="time", number=0, reason=f"it took longer than {seconds} seconds", log=log)
    _end_marked(f"{_MARK}={mark}")
    reason = "it ended the process that watched over it, so all that it had started was ended"
    return Ending(how="lost", number=0, reason=reason, log=log)


def _end_marked(mark: str) -> None:
    """End every process with a variable, until there is none: their supervisor can't do that any more."""
    wanted = mark.encode()
    while True:
        found = []
        for variables in Path("/proc").glob("[0-9]*/environ"):
            with suppress(OSError):
                if wanted in variables.read_bytes().split(b"\0"):
                    found.append(int(variables.parent.name))
        for number in found:
            with suppress(ProcessLookupError, PermissionError):
                os.kill(number, signal.SIGKILL)
        if not found:
            return
        time.sleep(_SHORT_PAUSE)


def _told_by(process: "subprocess.Popen[bytes]", waiting: Callable[[int], None]) -> str:
    """What the supervisor tells in the end; closing its input ends whatever still runs."""
    begun = time.monotonic()
    try:
        while process.stdout and not select.select([process.stdout], [], [], _PAUSE)[0]:
            waiting(int(time.monotonic() - begun))
        return process.stdout.read().decode().strip() if process.stdout else ""
    finally:
        if process.stdin:
            process.stdin.close()
