"""Threads that ask sources and read their answers, and waiting for these in a way that Ctrl-C can interrupt.

A signal that arrives in the moment before Python begins to wait for a lock is noticed when the wait ends:
so no wait here is long.
"""

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from contextlib import suppress
from typing import ParamSpec, Protocol, Self, TypeVar

__all__ = ["AT_MOST", "Asking", "as_finished", "at_once", "awaited"]

Answer = TypeVar("Answer")
Given = ParamSpec("Given")
AT_MOST = 0.2  # seconds


class Reply(Protocol):
    """The reply to a question over HTTP."""

    @property
    def status(self) -> int:
        """Its status (RFC 9110, section 15)."""


Came = TypeVar("Came", bound=Reply)
_CAME = (200, 304)


class Asking:
    """Threads for questions that keep a thread, and one for reading answers: several would only take turns.

    `waiting` is told what an answer waits for.
    """

    def __init__(self, threads: int, waiting: Callable[[str], None]) -> None:
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="asking")
        self._reading = ThreadPoolExecutor(1, thread_name_prefix="reading")
        self._waiting = waiting

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        """End; questions that nobody has begun to answer are dropped."""
        for pool in (self._pool, self._reading):
            pool.shutdown(wait=False, cancel_futures=True)

    def begin(
        self, ask: Callable[Given, Answer], *args: Given.args, **kwargs: Given.kwargs
    ) -> "Future[Answer]":
        """Ask in some thread. Raises `RuntimeError` when the threads have ended."""
        return self._pool.submit(ask, *args, **kwargs)

    def after(
        self,
        reply: "Future[Came] | None",
        read: Callable[Given, Answer],
        *args: Given.args,
        **kwargs: Given.kwargs,
    ) -> "Future[Answer]":
        """Read a reply as soon as it arrives; without a reply to wait for, ask as `begin` does.

        A failed reply is read in the pool, since the reader may then block on further questions.
        """
        if reply is None:
            return self.begin(read, *args, **kwargs)
        result: Future[Answer] = Future()

        def read_it() -> None:
            try:
                result.set_result(read(*args, **kwargs))
            except BaseException as error:  # noqa: BLE001 - it is raised where the result is asked for
                result.set_exception(error)

        def there(reply: "Future[Came]") -> None:
            came = reply.exception() is None and reply.result().status in _CAME
            try:
                (self._reading if came else self._pool).submit(read_it)
            except RuntimeError:  # the threads have ended: nobody waits for it
                result.cancel()

        reply.add_done_callback(there)
        return result

    def awaited(self, answer: "Future[Answer]", what: str) -> Answer:
        """An answer, when it is there. Raises what asking raised."""
        if not answer.done():
            self._waiting(what)
        return awaited(answer)


def at_once(read: Callable[[], Answer]) -> "Future[Answer]":
    """The answer, or what asking raised, of a question that nothing has to be waited for."""
    answer: Future[Answer] = Future()
    try:
        answer.set_result(read())
    except Exception as error:  # noqa: BLE001 - it is raised where the result is asked for
        answer.set_exception(error)
    return answer


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
