"""Wait for futures in a way that Ctrl-C can interrupt.

A signal that arrives in the moment before Python begins to wait for a lock is noticed when the wait ends:
so no wait here is long.
"""

from collections.abc import Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, wait
from typing import TypeVar

__all__ = ["as_finished", "awaited"]

Answer = TypeVar("Answer")
_AT_MOST = 0.2  # seconds


def awaited(future: "Future[Answer]") -> Answer:
    """What a future gives, when it does. Raises what it raises."""
    while not future.done():
        wait([future], timeout=_AT_MOST)
    return future.result()


def as_finished(futures: "Iterable[Future[Answer]]") -> "Iterator[Future[Answer]]":
    """Each future as soon as it is done."""
    waiting = set(futures)
    while waiting:
        done, waiting = wait(waiting, timeout=_AT_MOST, return_when=FIRST_COMPLETED)
        yield from done
