"""Run a command, and end everything it started: `python supervisor.py LOG COMMAND…`, a whole program.

The command's processes may outlive it, leave its session and lose their parents. So this process adopts
orphans (Linux, prctl(2)), and ends all of its descendants when the command has ended, or when its standard
input is closed: the process that started it then has ended, or wants an end. Where orphans can't be adopted,
the command's process group is ended. The output goes to the open file with the number LOG, without its middle
where it is long. The command itself does not get that file.

The command may kill this process. So its processes carry a mark that they can't remove: a kernel limit lower
than that of this process, which an unprivileged process can't raise again (setrlimit(2)). It is the limit on
file locks, which Linux has ignored since 2.4.25.

It prints how the command ended: `exit CODE`, `signal NUMBER`, `closed` or `unwritable`.
"""

import os
import select
import signal
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

MARKED_LIMIT = 10  # RLIMIT_LOCKS
_UNLIMITED = 1 << 40  # stands for no limit
_SUBREAPER = 36  # PR_SET_CHILD_SUBREAPER
_HEAD, _TAIL = 4_000_000, 200_000  # bytes of the output that are kept
_PIECE = 65536
_MOST_PIECES = 17  # that a pipe holds: a megabyte (pipe(7))
_PAUSE, _PATIENCE = 0.02, 5.0  # seconds until processes that were ended are gone; that this is waited for


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


def main(log: str, *command: str) -> str:
    """Run the command to its end; how it ended."""
    adopt_orphans()
    woken, wake = os.pipe()
    os.set_blocking(wake, False)
    signal.set_wakeup_fd(wake)
    signal.signal(signal.SIGCHLD, lambda *_: None)
    output, into = os.pipe()
    child = _start(command, into, int(log))
    os.close(into)
    try:
        with os.fdopen(int(log), "wb", buffering=0) as file:
            kept = Log(file)
            ending = _follow(child, (output, woken), kept)
            kept.close()
    except OSError:
        ending = "unwritable"
    with suppress(ProcessLookupError, PermissionError):
        os.killpg(child, signal.SIGKILL)
    end_all(children)
    return ending


def _start(command: "tuple[str, ...]", into: int, log: int) -> int:
    child = os.fork()
    if child == 0:
        try:
            os.close(log)
            os.setsid()
            _mark_this_process()
            os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
            os.dup2(into, 1)
            os.dup2(into, 2)
            os.execv(command[0], command)  # noqa: S606 - no shell is wanted
        except OSError as error:
            os.write(2, f"{command[0]}: {error}\n".encode())
        finally:
            os._exit(126)
    return child


def _follow(child: int, pipes: "tuple[int, int]", log: Log) -> str:
    """Take the output until the command ends; how it ended."""
    output, woken = pipes
    waited = [output, woken, 0]
    while True:
        ready, _, _ = select.select(waited, [], [])
        if output in ready:
            piece = os.read(output, _PIECE)
            log.add(piece)
            if not piece:
                waited.remove(output)
        ended, status = os.waitpid(child, os.WNOHANG)
        if ended:
            _drain(output, log)
            code = os.waitstatus_to_exitcode(status)
            return f"exit {code}" if code >= 0 else f"signal {-code}"
        if woken in ready:
            os.read(woken, _PIECE)
        if 0 in ready:
            return "closed"


def _drain(output: int, log: Log) -> None:
    """Take what was printed before the end; what the command has started may print for ever."""
    os.set_blocking(output, False)
    with suppress(BlockingIOError):
        for _ in range(_MOST_PIECES):
            log.add(os.read(output, _PIECE))


def adopt_orphans() -> None:
    """Become the parent of every process below whose own parent ends."""
    if sys.platform != "linux":
        return
    with suppress(ImportError, OSError, AttributeError):
        import ctypes

        ctypes.CDLL(None).prctl(_SUBREAPER, 1, 0, 0, 0)


def _mark_this_process() -> None:
    if sys.platform != "linux":
        return
    with suppress(ImportError, OSError, ValueError):
        import resource

        lower = max(0, marked_limit(0) - 1)
        resource.setrlimit(MARKED_LIMIT, (lower, lower))


def marked_limit(process: int) -> int:
    """The limit that marks a command's processes, of one process or (0) of this one. Raises `OSError`."""
    import resource

    limit = resource.prlimit(process, MARKED_LIMIT)[1]
    return _UNLIMITED if limit == resource.RLIM_INFINITY else limit


def children() -> "list[int]":
    """The child processes, including those that have ended and were not waited for."""
    found = []
    for thread in Path("/proc/self/task").glob("*/children"):
        with suppress(OSError):
            found += [int(number) for number in thread.read_text().split()]
    return found


def end_all(found: Callable[[], list[int]]) -> None:
    """End child processes until no more are found. After some seconds it gives up: it may not end all."""
    until = time.monotonic() + _PATIENCE
    while (left := found()) and time.monotonic() < until:
        for number in left:
            with suppress(ProcessLookupError, PermissionError):
                os.kill(number, signal.SIGKILL)
        for number in left:
            with suppress(ChildProcessError):
                os.waitpid(number, os.WNOHANG)
        time.sleep(_PAUSE)


if __name__ == "__main__":
    sys.stdout.write(main(*sys.argv[1:]))
    sys.stdout.flush()
