"""Progress on stderr: a moving line on a terminal when work takes long, else one line a stage."""

import threading
import time
from typing import TYPE_CHECKING, Protocol, TextIO

from rabbet.tasks.progress import Observer, Silent

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

__all__ = ["ClosableObserver", "observer_for"]

_PATIENCE = 0.4  # seconds before a terminal shows anything: quick work shows nothing


class ClosableObserver(Observer, Protocol):
    """An observer that clears the screen of what it drew."""

    def close(self) -> None:
        """Clear what was drawn; may be called again."""


def observer_for(stream: TextIO, *, quiet: bool) -> ClosableObserver:
    """The observer that suits where progress goes."""
    if quiet:
        return _Quiet()
    return _Moving() if stream.isatty() else _Lines(stream)


class _Quiet(Silent):
    """Tells nobody."""

    def close(self) -> None:
        """Nothing was drawn."""


class _Lines(Silent):
    """One line a stage."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def stage(self, text: str, total: int | None = None) -> None:
        """Print the stage."""
        shown = f"{text} ({total})" if total else text
        if total != 0:
            print(f"… {shown}", file=self._stream, flush=True)

    def close(self) -> None:
        """Nothing needs to be cleared."""


class _Moving:
    """A moving line, drawn by rich once the work has taken a while."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self._guard = threading.Lock()
        self._progress: Progress | None = None
        self._task: TaskID | None = None
        self._stage, self._total, self._done = "", 0, 0

    def stage(self, text: str, total: int | None = None) -> None:
        """Begin a stage."""
        with self._guard:
            self._stage, self._total, self._done = text, total or 0, 0
            self._draw("")

    def step(self, text: str) -> None:
        """Show a step."""
        with self._guard:
            self._done += 1
            self._draw(text)

    def waiting(self, text: str) -> None:
        """Show what is waited for."""
        with self._guard:
            self._draw(f"· waiting for {text}")

    def close(self) -> None:
        """Clear the line."""
        with self._guard:
            if self._progress is not None:
                self._progress.stop()
                self._progress = None
            self._begun = time.monotonic()

    def _draw(self, step: str) -> None:
        if self._progress is None:
            if time.monotonic() - self._begun < _PATIENCE:
                return
            self._start()
        if self._progress is not None and self._task is not None:
            self._progress.update(
                self._task,
                description=f"{self._stage} {step}"[:70],
                completed=self._done,
                total=self._total or None,
            )

    def _start(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn

        columns = (SpinnerColumn("line"), BarColumn(bar_width=20), TextColumn("{task.description}"))
        self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
        self._task = self._progress.add_task(self._stage, total=None)
        self._progress.start()
