"""Fork a helper process: two processes link and read small files faster than one, two threads do not."""

import os
import signal
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager

__all__ = ["alongside", "fork_if_useful", "in_two"]


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


def in_two(
    work: Callable[[Sequence[str], Callable[[Sequence[str]], None]], list[str]],
    halves: tuple[Sequence[str], Sequence[str]],
    done: Callable[[Sequence[str]], None],
    fork: Callable[[], int | None] = fork_if_useful,
) -> list[str]:
    """The results of both halves, of which a forked process works out the second one, or a thread.

    The work is given what it is to tell of each part that is done; the other process tells nobody. It must be
    such that it can be begun again. Raises what it raises.
    """
    first, second = halves
    reading, writing = os.pipe()
    helper = fork()
    if helper == 0:
        os.close(reading)
        _leave(lambda: _tell(writing, work(second, lambda _: None)))
    os.close(writing)
    with os.fdopen(reading, "rb") as told:
        if helper is None:
            return _in_threads(work, halves, done)
        try:
            found, rest = work(first, done), told.read()
        except BaseException:
            os.kill(helper, signal.SIGKILL)
            os.waitpid(helper, 0)
            raise
    if os.waitpid(helper, 0)[1] != 0:
        return found + work(second, done)
    done(second)
    return found + [os.fsdecode(one) for one in rest.split(b"\0") if one]


def _tell(descriptor: int, found: Sequence[str]) -> None:
    with os.fdopen(descriptor, "wb") as telling:
        telling.write(b"\0".join(os.fsencode(one) for one in found))


def _in_threads(
    work: Callable[[Sequence[str], Callable[[Sequence[str]], None]], list[str]],
    halves: tuple[Sequence[str], Sequence[str]],
    done: Callable[[Sequence[str]], None],
) -> list[str]:
    from concurrent.futures import ThreadPoolExecutor  # here: a part of the lightest runs never comes so far

    with ThreadPoolExecutor(2) as pool:
        return [one for part in pool.map(lambda half: work(half, done), halves) for one in part]


def _leave(work: Callable[[], None]) -> None:
    """In the child: do the work and exit, whatever happens."""
    code = 1
    try:
        work()
        code = 0
    finally:
        os._exit(code)
