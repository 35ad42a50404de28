"""Several threads that ask sources, and waiting for their answers in a way that Ctrl-C can interrupt.

A signal that arrives in the moment before Python begins to wait for a lock is noticed when the wait ends:
so no wait here is long.
"""

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import suppress
from typing import ParamSpec, Self, TypeVar

__all__ = ["AT_MOST", "Asking", "as_finished", "awaited"]

Answer = TypeVar("Answer")
Given = ParamSpec("Given")
AT_MOST = 0.2  # seconds


class Asking:
    """Threads for questions; `waiting` is told what an answer waits for."""

    def __init__(self, threads: int, waiting: Callable[[str], None]) -> None:
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="asking")
        self._waiting = waiting

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        """End; questions that nobody has begun to answer are dropped."""
        self._pool.shutdown(wait=False, cancel_futures=True)

    def begin(
        self, ask: Callable[Given, Answer], *args: Given.args, **kwargs: Given.kwargs
    ) -> "Future[Answer]":
        """Ask in some thread. Raises `RuntimeError` when the threads have ended."""
        return self._pool.submit(ask, *args, **kwargs)

    def awaited(self, answer: "Future[Answer]", what: str) -> Answer:
        """An answer, when it is there. Raises what asking raised."""
        if not answer.done():
            self._waiting(what)
        return awaited(answer)


def awaited(answer: "Future[Answer]") -> Answer:
    """An answer, when it is there. Raises what asking raised."""
    while not answer.done():
        with suppress(TimeoutError):
            answer.exception(AT_MOST)
    return answer.result()


def as_finished(futures: "Iterable[Future[Answer]]") -> "Iterator[Future[Answer]]":
    """Each future as soon as it is done."""
    waiting = set(futures)
    while waiting:
        done, waiting = wait(waiting, timeout=AT_MOST, return_when=FIRST_COMPLETED)
        yield from done
