"""A process in which everything of Rabbet is loaded, and which forks for each run of the program.

A test starts the program hundreds of times, and most of each start is loading. Here the real program runs in
a process of its own, with its own arguments, folder, variables and streams; only the loading is done before.
This file is that process; `Preloaded` asks it from a test. Modules of tests that run one after the other may
share one.

Each request is a message with four descriptors: where the answer goes, and the three streams. A keeper,
forked for the request, forks the program, tells its id, waits for it, and tells how it ended.
"""

import ast
import atexit
import gc
import importlib
import io
import json
import os
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path
from typing import NoReturn

DESCRIPTOR = "RABBET_TEST_PRELOADED"  # the variable that names the descriptor of one that is shared
_MOST = 150_000  # bytes of a request
_HEAVY = ("matplotlib",)  # loaded by few


@contextmanager
def preloaded() -> Iterator[int]:
    """Start the process; give the descriptor by which it is asked, and end it."""
    asking, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    with there:
        process = subprocess.Popen(
            [sys.executable, __file__, str(there.fileno())],
            pass_fds=[there.fileno()],
            env={"LANG": "C.UTF-8", "HOME": "/", "PATH": "/usr/bin:/bin"},
        )
    with process, asking:
        yield asking.fileno()
        asking.close()  # which ends it


class Preloaded:
    """The process as a test asks it: the one that a variable names, else one of this test's own."""

    def __init__(self) -> None:
        whole = ExitStack()
        named = os.environ.get(DESCRIPTOR)
        descriptor = os.dup(int(named) if named else whole.enter_context(preloaded()))
        self._asked = whole.enter_context(socket.socket(fileno=descriptor))
        atexit.register(whole.close)

    def run(
        self, arguments: Sequence[str], folder: Path, variables: Mapping[str, str], seconds: float
    ) -> subprocess.CompletedProcess[str]:
        """Run the program to its end. Raises `subprocess.TimeoutExpired`."""
        request = json.dumps([list(arguments), str(folder), dict(variables)]).encode()
        if len(request) > _MOST:
            raise ValueError("such a request can't be sent")
        here, there = socket.socketpair()
        streams = [os.pipe(), os.pipe()]
        with here, Path(os.devnull).open("rb") as nothing:
            with there:
                ends = [there.fileno(), nothing.fileno(), *(write for _, write in streams)]
                socket.send_fds(self._asked, [request], ends)
            for _, write in streams:
                os.close(write)
            here.settimeout(seconds)
            answer = here.makefile("r")
            process = int(answer.readline())
            told = ["", ""]
            readers = [
                threading.Thread(target=_read, args=(told, place, read))
                for place, (read, _) in enumerate(streams)
            ]
            for reader in readers:
                reader.start()
            try:
                code = int(answer.readline())
            except TimeoutError as error:
                os.kill(process, signal.SIGKILL)
                raise subprocess.TimeoutExpired(arguments, seconds) from error
            finally:
                for reader in readers:
                    reader.join()
        return subprocess.CompletedProcess(arguments, code, *told)


def _read(told: list[str], place: int, descriptor: int) -> None:
    with open(descriptor, encoding="utf-8") as stream:
        told[place] = stream.read()


def _serve(asked: socket.socket) -> NoReturn:
    """Answer requests until nobody asks any more. It ends in each of the forked processes, too."""
    while True:
        request, descriptors, _, _ = socket.recv_fds(asked, _MOST, 4)
        if not request:
            sys.exit(0)
        if os.fork() == 0:
            asked.close()
            _keep(request, descriptors)
        for descriptor in descriptors:
            os.close(descriptor)
        with suppress(ChildProcessError):
            while os.waitpid(-1, os.WNOHANG)[0]:
                pass


def _keep(request: bytes, descriptors: Sequence[int]) -> NoReturn:
    """Run the program for one request, and tell how it ended."""
    answer, *streams = descriptors
    process = os.fork()
    if process == 0:
        os.close(answer)
        for number, stream in enumerate(streams):
            os.dup2(stream, number)
            os.close(stream)
        _become(*json.loads(request))
    for stream in streams:
        os.close(stream)
    os.write(answer, f"{process}\n".encode())
    _, status = os.waitpid(process, 0)
    os.write(answer, f"{os.waitstatus_to_exitcode(status)}\n".encode())
    os._exit(0)


def _become(arguments: list[str], folder: str, variables: dict[str, str]) -> NoReturn:
    """Be the program, as if it were started here."""
    os.chdir(folder)
    os.environ.clear()
    os.environ.update(variables)
    sys.stdin, sys.stdout, sys.stderr = (
        io.TextIOWrapper(_buffered(number, mode), "utf-8", errors, line_buffering=number == 2)
        for number, mode, errors in ((0, "rb", "strict"), (1, "wb", "strict"), (2, "wb", "backslashreplace"))
    )
    sys.path[0] = folder  # as `python -m` has it
    sys.argv = ["rabbet", *arguments]
    importlib.import_module("rabbet.__main__").program()
    raise AssertionError("the program ends its process")


def _buffered(number: int, mode: str) -> io.BufferedIOBase:
    raw = io.FileIO(number, mode, closefd=False)
    return io.BufferedReader(raw) if mode == "rb" else io.BufferedWriter(raw)


def _load() -> None:
    """Import all modules of Rabbet, and what they import when they need it."""
    import rabbet

    root = Path(rabbet.__file__).parent
    wanted = set()
    for path in root.rglob("*.py"):
        wanted.add(
            ".".join(["rabbet", *path.relative_to(root).with_suffix("").parts]).removesuffix(".__init__")
        )
        for node in ast.walk(ast.parse(path.read_bytes())):
            if isinstance(node, ast.Import):
                wanted |= {name.name for name in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module:
                wanted.add(node.module)
    for name in sorted(wanted):
        if not name.startswith(_HEAVY):
            with suppress(ImportError):  # of an extra that is not installed
                importlib.import_module(name)
    gc.collect()
    gc.freeze()


if __name__ == "__main__":
    _load()
    signal.signal(signal.SIGINT, signal.default_int_handler)
    _serve(socket.socket(fileno=int(sys.argv[1])))
