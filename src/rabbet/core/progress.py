"""The observer interface through which work reports its progress."""

from collections.abc import Callable, Sequence
from typing import Protocol

__all__ = ["Observer", "Silent", "reading_files"]


class Observer(Protocol):
    """Is told what a task does. All methods may be called from many threads."""

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """A stage begins, such as "fetching wheels", of so many steps and bytes where these are known."""

    def received(self, count: int, file: str, size: int) -> None:
        """So many more bytes of a file of that size have come."""

    def step(self, text: str) -> None:
        """One step of the stage is done, such as a file by its name."""

    def told(self, message: str, because: Sequence[str]) -> bool:
        """The command will fail for these reasons once it has looked for remedies; says if that was shown."""

    def waiting(self, text: str) -> None:
        """The stage waits for something, such as `the listing of combframe`."""


def reading_files(observer: Observer) -> Callable[[int], Callable[[int], None]]:
    """Reports how much of an environment was read, as a stage."""

    def begin(size: int) -> Callable[[int], None]:
        observer.stage("reading the environment's files", size=size)
        return lambda read: observer.received(read, "", 0)

    return begin


class Silent:
    """Tells nobody."""

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """Nothing happens."""

    def received(self, count: int, file: str, size: int) -> None:
        """Nothing happens."""

    def step(self, text: str) -> None:
        """Nothing happens."""

    def told(self, message: str, because: Sequence[str]) -> bool:  # noqa: ARG002 - as the protocol has it
        """Nothing is shown."""
        return False

    def waiting(self, text: str) -> None:
        """Nothing happens."""
