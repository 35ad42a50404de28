"""Run a command and end all that it started: `python supervisor.py SECONDS LOG COMMAND…`, a whole program.

What the command starts may outlive it, leave its session and lose its parent. So this process adopts orphans
(Linux, prctl(2)), and ends whatever is below it when the command has ended, when the time is up, or when its
standard input is closed: then whoever started it is gone. Where orphans can't be adopted, the command's own
process group is ended. What the command prints goes to the log, the middle of it left out where it is long.

It prints how the command ended: `exit CODE`, `signal NUMBER`, `time` or `unwritable`.
"""

import os
import select
import signal
import sys
import time
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

_SUBREAPER = 36  # PR_SET_CHILD_SUBREAPER
_HEAD, _TAIL = 4_000_000, 200_000  # bytes of the output that are kept
_PIECE = 65536


class Log:
    """The beginning and the end of what is written to it."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._written = 0
        self._tail = b""
        self._left_out = 0

    def add(self, piece: bytes) -> None:
        """Take more. Raises `OSError`."""
        begun = piece[: max(0, _HEAD - self._written)]
        self._file.write(begun)
        self._written += len(begun)
        tail = self._tail + piece[len(begun) :]
        self._left_out += max(0, len(tail) - _TAIL)
        self._tail = tail[-_TAIL:]

    def close(self) -> None:
        """Write the end, and how much is missing before it. Raises `OSError`."""
        if self._left_out:
            self._file.write(f"\n… {self._left_out} bytes are left out here …\n".encode())
        self._file.write(self._tail)
        self._file.flush()


def main(seconds: str, log: str, *command: str) -> str:
    """Run the command to its end; how it ended."""
    _adopt_orphans()
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.set_wakeup_fd(wake)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    output, into = os.pipe()
    child = _start(command, into)
    os.close(into)
    ending = "time"
    try:
        with Path(log).open("wb", buffering=0) as file:
            kept = Log(file)
            ending = _follow(child, (output, woken), kept, time.monotonic() + float(seconds))
            kept.close()
    except OSError:
        ending = "unwritable"
    _end_all(child)
    return ending


def _start(command: "tuple[str, ...]", into: int) -> int:
    child = os.fork()
    if child == 0:
        try:
            os.setsid()
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            os.dup2(into, 1)
            os.dup2(into, 2)
            os.execv(command[0], command)  # noqa: S606 - no shell is wanted
        except OSError as error:
            os.write(2, f"{command[0]}: {error}\n".encode())
        finally:
            os._exit(126)
    return child


def _follow(child: int, pipes: "tuple[int, int]", log: Log, until: float) -> str:
    """Take the output until the command ends; how it ended."""
    output, woken = pipes
    waited = [output, woken, 0]
    while time.monotonic() < until:
        ready, _, _ = select.select(waited, [], [], max(0, until - time.monotonic()))
        if output in ready:
            piece = os.read(output, _PIECE)
            log.add(piece)
            if not piece:
                waited.remove(output)
            continue  # all that was printed comes before the end
        ended, status = os.waitpid(child, os.WNOHANG)
        if ended:
            code = os.waitstatus_to_exitcode(status)
            return f"exit {code}" if code >= 0 else f"signal {-code}"
        if woken in ready:
            os.read(woken, _PIECE)
        if 0 in ready:
            break
    return "time"


def _adopt_orphans() -> None:
    """Become the parent of every process below whose own parent ends."""
    if sys.platform != "linux":
        return
    with suppress(ImportError, OSError, AttributeError):
        import ctypes

        ctypes.CDLL(None).prctl(_SUBREAPER, 1, 0, 0, 0)


def _end_all(child: int) -> None:
    """End the command's group, then all processes below this one, until there is none."""
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(child, signal.SIGKILL)
    own = Path(f"/proc/self/task/{os.getpid()}/children")
    while True:
        below = []
        with suppress(OSError):
            below = [int(number) for number in own.read_text().split()]
        for number in below or [child]:
            with suppress(ProcessLookupError, PermissionError):
                os.kill(number, signal.SIGKILL)
            with suppress(ChildProcessError):
                os.waitpid(number, 0)
        if not below:
            return


if __name__ == "__main__":
    sys.stdout.write(main(*sys.argv[1:]))
    sys.stdout.flush()
