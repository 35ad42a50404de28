"""Byte-compiling unpacked wheels, once for each runtime, with all cores (PEP 3147 names the files).

The compiled files note size and time of their sources, and are valid wherever both are linked to.
"""

import os
import queue
import select
import subprocess
from collections.abc import Sequence
from pathlib import Path
from types import TracebackType
from typing import IO, NamedTuple, Self

__all__ = ["Compilation", "Compiler"]

_TIMEOUT = 600  # seconds for one library

# Runs inside the runtime that will run the modules, so it has to do with Python 3.4. What can't be compiled
# is left out: some libraries bring templates, and tests for other versions. An empty line is answered when
# everything before it is done.
_PROGRAM = r"""
import importlib.util, os, py_compile, sys
for line in sys.stdin.buffer:
    line = line.rstrip(b"\n")
    if line:
        tree, folder, path = os.fsdecode(line).split("\0")
        target = os.path.join(folder, importlib.util.cache_from_source(path))
        try:
            py_compile.compile(os.path.join(tree, path), target, path, True)
        except Exception:
            pass
    else:
        os.write(1, b"\n")
"""


class Compilation(NamedTuple):
    """The modules of one unpacked tree (relative paths), and the folder that their compiled files go into."""

    tree: Path
    modules: Sequence[str]
    folder: Path


class Compiler:
    """A runtime that compiles, in as many processes as there are cores; they start when they are needed.

    May be used from many threads.
    """

    def __init__(self, executable: str) -> None:
        self._executable = executable
        self._idle: queue.SimpleQueue[_Worker | None] = queue.SimpleQueue()
        self._started: list[_Worker] = []
        for _ in range(os.cpu_count() or 1):
            self._idle.put(None)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for worker in self._started:
            worker.process.kill()
            worker.process.communicate()

    def compile(self, work: Compilation) -> bool:
        """Compile all modules that compile, when a process is free; whether the runtime worked."""
        lines = [os.fsencode(f"{work.tree}\0{work.folder}\0{path}\n") for path in work.modules]
        worker = self._idle.get()
        try:
            if worker is None or worker.process.poll() is not None:
                worker = _start(self._executable)
                self._started.append(worker)
            _do(worker, b"".join(lines))
        except OSError:
            if worker is not None:
                worker.process.kill()
            worker = None  # the next work gets a process that lives
            return False
        finally:
            self._idle.put(worker)
        return True


class _Worker(NamedTuple):
    process: subprocess.Popen[bytes]
    lines: IO[bytes]
    answers: IO[bytes]


def _start(executable: str) -> _Worker:
    """A process that takes work. Raises `OSError`."""
    process = subprocess.Popen(
        [executable, "-I", "-S", "-c", _PROGRAM],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        env={},
    )
    if process.stdin is None or process.stdout is None:
        raise BrokenPipeError
    return _Worker(process, process.stdin, process.stdout)


def _do(worker: _Worker, lines: bytes) -> None:
    """Send work to a process and wait. Raises `OSError` if it exits early or exceeds the time limit."""
    worker.lines.write(lines + b"\n")
    worker.lines.flush()
    ready, _, _ = select.select([worker.answers], [], [], _TIMEOUT)
    if not ready:
        raise TimeoutError
    if worker.answers.read(1) != b"\n":
        raise BrokenPipeError
