"""Ask a program something, whatever it does: hang, print without end, leave processes behind."""

import os
import selectors
import signal
import subprocess
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress

from msgspec import Struct

__all__ = ["Answer", "NoAnswer", "ask"]

_SECONDS = 20  # for an answer
_PAUSE = 0.05  # seconds after which it is looked whether the program has ended
_MOST = 100_000  # bytes of an answer that are read


class NoAnswer(Exception):
    """The program did not answer; the text says why."""


class Answer(Struct, frozen=True, kw_only=True):
    """What a program printed on standard output and standard error, and its exit code."""

    code: int
    out: bytes
    err: bytes


def ask(command: Sequence[str], environ: Mapping[str, str], *, seconds: int = _SECONDS) -> Answer:
    """Run a program with no input and in a session of its own, which ends with it.

    Raises `NoAnswer`, also for one that takes longer than so many seconds.
    """
    try:
        process = subprocess.Popen(
            command,
            env=environ,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
            cwd="/",
        )
    except (OSError, ValueError) as error:
        raise NoAnswer(f"it does not start: {getattr(error, 'strerror', None) or error}") from error
    with process:
        try:
            return _answer(process, seconds)
        finally:
            with suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)


def _answer(process: "subprocess.Popen[bytes]", seconds: int) -> Answer:
    """What comes through the pipes until the program ends, also where its children keep them open."""
    told, until = {"out": b"", "err": b""}, time.monotonic() + seconds
    with selectors.DefaultSelector() as selector:
        for name, pipe in (("out", process.stdout), ("err", process.stderr)):
            if pipe is not None:
                selector.register(pipe, selectors.EVENT_READ, name)
        while True:
            code = process.poll()
            arrived = False
            for key, _ in selector.select(_PAUSE if code is None else 0):
                piece = os.read(key.fd, 65536)
                told[key.data] += piece
                arrived = arrived or bool(piece)
                if not piece:
                    selector.unregister(key.fileobj)
            if code is not None and not arrived:
                return Answer(code=code, **told)
            if not selector.get_map():
                with suppress(subprocess.TimeoutExpired):
                    process.wait(_PAUSE)
            if max(map(len, told.values())) > _MOST:
                raise NoAnswer("it prints without end")
            if time.monotonic() >= until:
                raise NoAnswer(f"it gave no answer in {seconds} seconds")
