"""How a task reports progress: through this one interface."""

from typing import Protocol

__all__ = ["Observer", "Silent"]


class Observer(Protocol):
    """Is told what a task does. All methods may be called from many threads."""

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """A stage begins, such as "fetching wheels", of so many steps and bytes where these are known."""

    def received(self, count: int, file: str, size: int) -> None:
        """So many more bytes of a file of that size have come."""

    def step(self, text: str) -> None:
        """One step of the stage is done, such as a file by its name."""

    def waiting(self, text: str) -> None:
        """What the stage waits for at the moment, such as `the listing of combframe`."""


class Silent:
    """Tells nobody."""

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """Nothing happens."""

    def received(self, count: int, file: str, size: int) -> None:
        """Nothing happens."""

    def step(self, text: str) -> None:
        """Nothing happens."""

    def waiting(self, text: str) -> None:
        """Nothing happens."""
