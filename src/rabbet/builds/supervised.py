"""Run a command that nobody vouches for: with a time limit, its output in a file, no process left of it."""

import select
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from rabbet.builds import supervisor
from rabbet.errors import CannotWrite

__all__ = ["Ending", "run_supervised"]

_PAUSE = 0.5  # seconds after which it is told that the command still runs
_LONGEST_LINE = 300


class Ending(Struct, frozen=True, kw_only=True):
    """How a command ended, and where its output is; one that was ended, for that `reason`, has no `code`."""

    code: int | None
    reason: str
    log: Path

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
    try:
        process = subprocess.Popen(
            program,
            env=environ,
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
    kind, _, number = told.partition(" ")
    if kind == "exit":
        return Ending(code=int(number), reason=f"it ended with exit code {number}", log=log)
    reasons = {"time": f"it took longer than {seconds} seconds", "signal": f"signal {number} ended it"}
    return Ending(code=None, reason=reasons.get(kind, "nobody knows how it ended"), log=log)


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
