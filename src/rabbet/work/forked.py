"""Fork helper processes: several link and read small files faster than one, several threads do not."""

import os
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import NamedTuple, TypeAlias

__all__ = ["alongside", "fork_if_useful", "in_processes"]

Done: TypeAlias = Callable[[Sequence[str]], None]
Work: TypeAlias = Callable[[Sequence[str], Done], list[str]]


class _Helper(NamedTuple):
    """A forked process, where it tells what it found, and its part."""

    pid: int
    reading: int
    part: Sequence[str]


def fork_if_useful() -> int | None:
    """Fork where that is safe (one thread) and useful (several cores): 0 in the child; `None` if refused."""
    if threading.active_count() > 1 or (os.cpu_count() or 1) == 1:
        return None
    try:
        return os.fork()
    except OSError:
        return None


@contextmanager
def alongside(work: Callable[[], None], fork: Callable[[], int | None] = fork_if_useful) -> Iterator[None]:
    """Run work in a forked process while the body runs; if that process fails, run it here.

    The work must be such that it can be begun again. The second process holds the claims of this one, so if
    this one is killed, others wait until it has ended too. Raises what the work raises.
    """
    helper = fork()
    if helper == 0:
        _leave(work)
    try:
        yield
    finally:
        done = helper is not None and os.waitpid(helper, 0)[1] == 0
    if not done:
        work()


def in_processes(
    work: Work, parts: Sequence[Sequence[str]], done: Done, fork: Callable[[], int | None] = fork_if_useful
) -> list[str]:
    """The results of all parts: forked processes work out all but the first one, or threads do.

    In this process `work` gets a callback for progress; forked ones do not report. It must be safe to start
    twice on one part. Raises what it raises.
    """
    own, helpers = [parts[0]], []
    try:
        for part in parts[1:]:
            helper = _begun(work, part, fork)
            if helper is None:
                own.append(part)
            else:
                helpers.append(helper)
        found = _in_threads(work, own, done)
        told = [_read_all(helper.reading) for helper in helpers]
    except BaseException:
        for helper in helpers:
            os.kill(helper.pid, signal.SIGKILL)
            os.waitpid(helper.pid, 0)
        raise
    ended = [os.waitpid(helper.pid, 0)[1] for helper in helpers]
    for helper, code, content in zip(helpers, ended, told, strict=True):
        if code == 0:
            done(helper.part)
            found += [os.fsdecode(path) for path in content.split(b"\0") if path]
        else:
            found += work(helper.part, done)
    return found


def _begun(work: Work, part: Sequence[str], fork: Callable[[], int | None]) -> _Helper | None:
    """A process that works out one part; `None` where there can be none."""
    reading, writing = os.pipe()
    pid = fork()
    if pid == 0:
        os.close(reading)
        _leave(lambda: _tell(writing, work(part, lambda _: None)))
    os.close(writing)
    if pid is None:
        os.close(reading)
        return None
    return _Helper(pid, reading, part)


def _tell(descriptor: int, found: Sequence[str]) -> None:
    with os.fdopen(descriptor, "wb") as telling:
        telling.write(b"\0".join(os.fsencode(path) for path in found))


def _read_all(descriptor: int) -> bytes:
    with os.fdopen(descriptor, "rb") as told:
        return told.read()


def _in_threads(work: Work, parts: Sequence[Sequence[str]], done: Done) -> list[str]:
    if len(parts) == 1:
        return work(parts[0], done)
    from concurrent.futures import ThreadPoolExecutor  # here: mostly there is one part

    with ThreadPoolExecutor(len(parts)) as pool:
        return [path for part in pool.map(lambda part: work(part, done), parts) for path in part]


def _leave(work: Callable[[], None]) -> None:
    """In the child: do the work and exit, whatever happens."""
    code = 1
    try:
        work()
        code = 0
    finally:
        os._exit(code)
