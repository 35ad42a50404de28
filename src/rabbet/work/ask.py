"""Ask a program something, whatever it does: hang, print without end, leave processes behind."""

import os
import selectors
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from typing import NamedTuple

from msgspec import Struct

__all__ = ["Bounds", "NoAnswer", "ProgramAnswer", "ask"]

_PAUSE = 0.05  # seconds after which it is looked whether the program has ended
_PIECE = 1 << 16  # bytes that are read or written at once


class NoAnswer(Exception):
    """The program did not answer; the text says why."""


class Bounds(NamedTuple):
    """How many seconds an answer may take, and how many bytes it may have on each of the two streams."""

    seconds: int = 60
    size: int = 100_000


_USUAL = Bounds()


class ProgramAnswer(Struct, frozen=True, kw_only=True):
    """A program's standard output, standard error and exit code."""

    code: int
    out: bytes
    err: bytes

    @property
    def text(self) -> str:
        """Standard output, decoded; bytes that are not UTF-8 are replaced."""
        return self.out.decode("utf-8", "replace")


def ask(
    command: Sequence[str],
    environ: Mapping[str, str],
    *,
    folder: "str | os.PathLike[str]" = "/",
    given: bytes = b"",
    bounds: Bounds = _USUAL,
    apart: bool = True,
) -> ProgramAnswer:
    """Run a program in a folder, with `given` as its input, and read its answer.

    It runs `apart`, in a session of its own, all of whose processes end with it; else it belongs to the
    terminal as this process does, so that it can ask a person for a password.

    Raises `NoAnswer` where the program can't be started, takes too long, or prints too much.
    """
    try:
        process = subprocess.Popen(
            command,
            env=environ,
            stdin=subprocess.PIPE if given else subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=apart,
            cwd=folder,
        )
    except (OSError, ValueError) as error:
        raise NoAnswer(f"it does not start: {getattr(error, 'strerror', None) or error}") from error
    with process:
        try:
            return _answer(process, given, bounds)
        finally:
            with suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL) if apart else process.kill()


def _answer(process: "subprocess.Popen[bytes]", given: bytes, bounds: Bounds) -> ProgramAnswer:
    """The output until the program ends, also when its children keep the pipes open."""
    until = time.monotonic() + bounds.seconds
    with _Pipes(process, given) as pipes:
        while True:
            code = process.poll()
            arrived = pipes.turn(_PAUSE if code is None else 0)
            if code is not None and not arrived:
                return ProgramAnswer(code=code, out=bytes(pipes.told["out"]), err=bytes(pipes.told["err"]))
            if pipes.closed:
                with suppress(subprocess.TimeoutExpired):
                    process.wait(_PAUSE)
            if max(map(len, pipes.told.values())) > bounds.size:
                raise NoAnswer("it prints without end")
            if time.monotonic() >= until:
                raise NoAnswer(f"it gave no answer in {bounds.seconds} seconds")


class _Pipes(selectors.DefaultSelector):
    """The streams of a process: what is still to be written, and what it has `told`."""

    def __init__(self, process: "subprocess.Popen[bytes]", given: bytes) -> None:
        super().__init__()
        self.told = {"out": bytearray(), "err": bytearray()}
        self._rest = memoryview(given)
        if process.stdin is not None:
            os.set_blocking(process.stdin.fileno(), False)
            self.register(process.stdin, selectors.EVENT_WRITE, "in")
        for name, pipe in (("out", process.stdout), ("err", process.stderr)):
            if pipe is not None:
                self.register(pipe, selectors.EVENT_READ, name)

    @property
    def closed(self) -> bool:
        """Whether the process has closed all of them."""
        return not self.get_map()

    def turn(self, seconds: float) -> bool:
        """Read and write what can be without waiting longer; whether anything was read."""
        arrived = False
        for key, _ in self.select(seconds):
            if key.data == "in":
                self._write(key)
                continue
            piece = os.read(key.fd, _PIECE)
            self.told[key.data] += piece
            arrived = arrived or bool(piece)
            if not piece:
                self.unregister(key.fileobj)
        return arrived

    def _write(self, key: selectors.SelectorKey) -> None:
        """Write a piece of the input; the pipe is closed behind the last one, or if nobody reads any more."""
        try:
            self._rest = self._rest[os.write(key.fd, self._rest[:_PIECE]) :]
        except BlockingIOError:
            return
        except OSError:
            self._rest = self._rest[:0]
        if not self._rest:
            self.unregister(key.fileobj)
            key.fileobj.close()  # type: ignore[union-attr]  # it is the process's own stream
