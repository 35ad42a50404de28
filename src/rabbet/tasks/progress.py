"""How a task reports progress: through this one interface."""

from typing import Protocol

__all__ = ["Observer", "Silent"]


class Observer(Protocol):
    """Is told what a task does. All methods may be called from many threads."""

    def stage(self, text: str, total: int | None = None) -> None:
        """A stage begins, such as "fetching wheels", of so many steps where that is known."""

    def step(self, text: str) -> None:
        """One step of the stage begins or is done, such as the name of a library."""


class Silent:
    """Tells nobody."""

    def stage(self, text: str, total: int | None = None) -> None:
        """Nothing happens."""

    def step(self, text: str) -> None:
        """Nothing happens."""
