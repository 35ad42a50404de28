"""Run an untrusted command with a time limit, keep its output, and leave none of its processes behind."""

import os
import re
import select
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Literal

from msgspec import Struct

from rabbet.disk.atomic import cannot_write
from rabbet.errors import CannotWrite
from rabbet.work import supervisor

__all__ = ["Ending", "build_environ", "run_supervised"]

_PAUSE = 0.5  # seconds after which it is told that the command still runs
_PATIENCE = 10  # seconds that the supervisor may take to end all, before it is ended itself
_LONGEST_LINE = 300
_TOLD = re.compile(r"(exit|signal|time|unwritable)(?: ([0-9]{1,3}))?\Z")
_MOST_TOLD = 100  # bytes
_EPOCH = "946684800"  # 2000-01-01: what a build writes down as the time is the same in every build


class Ending(Struct, frozen=True, kw_only=True):
    """How a command ended, with its output; one that was ended, for that `reason`, has no `code`.

    That is by itself, by a signal with a `number`, because its `time` was up, or in a way that was `lost`.
    """

    how: Literal["exit", "signal", "time", "lost"]
    number: int
    reason: str
    output: str

    @property
    def code(self) -> int | None:
        """Its exit code."""
        return self.number if self.how == "exit" else None

    def last_lines(self, most: int) -> list[str]:
        """The end of its output, without blank lines."""
        lines = self.output[-most * _LONGEST_LINE :].splitlines()
        return [line.rstrip()[:_LONGEST_LINE] for line in lines if line.strip()][-most:]


def build_environ(path: str, root: Path) -> dict[str, str]:
    """All variables of a build: none of the user's, and folders `home` and `tmp` of its own below `root`."""
    return {
        "PATH": path,
        "HOME": str(root / "home"),
        "TMPDIR": str(root / "tmp"),
        "LANG": "C.UTF-8",
        "SOURCE_DATE_EPOCH": _EPOCH,
    }


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

    Its output is written to the file `log` too, which replaces any older one. The command and everything it
    started also end when this process is interrupted or killed, and when they kill or stop their supervisor.
    Raises `CannotWrite` where its output can't be written.
    """
    supervisor.adopt_orphans()
    with cannot_write(log):
        log.unlink(missing_ok=True)
        file = log.open("xb+")
    with file:
        how, number = _ended(command, environ, folder, file.fileno(), _Wait(seconds, waiting))
        file.seek(0)
        output = file.read().decode("utf-8", "replace")
    if how == "unwritable":
        raise CannotWrite(f"{log} can't be written", because=["the disk may be full"])
    if how == "exit":
        return Ending(how="exit", number=number, reason=f"it ended with exit code {number}", output=output)
    if how == "signal":
        return Ending(how="signal", number=number, reason=f"signal {number} ended it", output=output)
    if how == "time":
        return Ending(how="time", number=0, reason=f"it took longer than {seconds} seconds", output=output)
    reason = "it ended or stopped the process that watched over it, so all that it had started was ended"
    return Ending(how="lost", number=0, reason=reason, output=output)


class _Wait(Struct, frozen=True):
    """The time limit in seconds, and what is called with the seconds that have passed."""

    seconds: int
    waiting: Callable[[int], None]


def _ended(
    command: Sequence[str], environ: Mapping[str, str], folder: Path, log: int, wait: _Wait
) -> tuple[str, int]:
    """How the command ended, once none of its processes is left. Raises `CannotWrite`."""
    try:
        process = subprocess.Popen(
            [sys.executable, "-I", "-S", supervisor.__file__, str(log), *command],
            env=environ,
            cwd=folder,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
            pass_fds=[log],
        )
    except OSError as error:
        raise CannotWrite("no process can be started", because=[error.strerror or str(error)]) from error
    with process:
        try:
            told = _TOLD.match(_told_by(process, wait))
        finally:
            _end(process)
    return (told[1], int(told[2] or 0)) if told else ("lost", 0)


def _told_by(process: "subprocess.Popen[bytes]", wait: _Wait) -> str:
    """The supervisor's last report; empty when it ended or stopped before, `time` after a timeout."""
    begun = time.monotonic()
    output = process.stdout
    while output is not None:
        left = wait.seconds - (time.monotonic() - begun)
        if left <= 0:
            return "time"
        if select.select([output], [], [], min(left, _PAUSE))[0]:
            return os.read(output.fileno(), _MOST_TOLD).decode("ascii", "replace")
        if _is_stopped(process):
            return ""
        wait.waiting(int(time.monotonic() - begun))
    return ""


def _is_stopped(process: "subprocess.Popen[bytes]") -> bool:
    if sys.platform != "linux":  # elsewhere the time limit finds it
        return False
    with suppress(ChildProcessError):  # one that has ended can't be stopped
        return os.waitid(os.P_PID, process.pid, os.WSTOPPED | os.WNOHANG | os.WNOWAIT) is not None
    return False


def _end(process: "subprocess.Popen[bytes]") -> None:
    """Let the supervisor end everything. If it does not, end it and the orphans that come here."""
    if process.stdin:
        process.stdin.close()
    try:
        process.wait(0.0 if _is_stopped(process) else _PATIENCE)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
    if sys.platform == "linux":
        supervisor.end_all(_orphans)


def _orphans() -> list[int]:
    """Processes of commands whose supervisors are gone: they are children of this process now."""
    found = []
    for number in supervisor.children():
        with suppress(OSError, ImportError):
            if supervisor.marked_limit(number) < supervisor.marked_limit(0):
                found.append(number)
    return found
