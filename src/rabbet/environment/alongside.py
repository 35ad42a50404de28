"""Fork a helper process: two processes create links faster than one, two threads do not."""

import os
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

__all__ = ["alongside", "fork_if_useful"]


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


def _leave(work: Callable[[], None]) -> None:
    """In the child: do the work and exit, whatever happens."""
    code = 1
    try:
        work()
        code = 0
    finally:
        os._exit(code)
