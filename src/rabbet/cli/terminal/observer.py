"""Progress on stderr: a moving line on a terminal when work takes long, else one line a stage."""

import sys
import threading
import time
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple, Protocol, TextIO

from rabbet.cli.failures.failure import reasons
from rabbet.core.progress import Observer, Silent
from rabbet.core.shown_text import visible, without_credentials
from rabbet.documents.amounts import size_text

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

__all__ = ["ClosableObserver", "Traffic", "observer_for"]

_MOST_ROWS = 4  # files at a time, below the line for all
_BAR = 8  # characters: the text says more

_PATIENCE = 0.4  # seconds before a terminal shows anything: quick work shows nothing


class ClosableObserver(Observer, Protocol):
    """An observer that clears the screen of what it drew."""

    def close(self) -> None:
        """Clear what was drawn; may be called again."""


def observer_for(stream: TextIO, *, quiet: bool, verbose: bool = False) -> ClosableObserver:
    """The observer for this stream: a moving line for a terminal, else plain lines.

    A `verbose` one tells each step.
    """
    if quiet:
        return _Quiet()
    if verbose:
        return _Steps(stream)
    return _Moving() if stream.isatty() else _Lines(stream)


class _Quiet(Silent):
    """Shows nothing."""

    def close(self) -> None:
        """Nothing was drawn."""


class _Lines(Silent):
    """One line a stage."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """Print the stage."""
        shown = f"{text} ({total})" if total else text
        shown += f", {size_text(size)}" if size else ""
        if total != 0:
            print(f"… {_plain(shown)}", file=self._stream, flush=True)

    def told(self, message: str, because: Sequence[str]) -> bool:
        """Print the failure."""
        print("\n".join(reasons(message, because, self._stream)), file=self._stream, flush=True)
        return True

    def close(self) -> None:
        """Nothing needs to be cleared."""


class _Steps(_Lines):
    """One line a stage, and one a step, with the time since the beginning."""

    def __init__(self, stream: TextIO) -> None:
        super().__init__(stream)
        self._begun = time.monotonic()
        self._waited = ""

    def step(self, text: str) -> None:
        """Print the step."""
        self._tell(text)

    def waiting(self, text: str) -> None:
        """Print what is waited for, once."""
        if text != self._waited:
            self._waited = text
            self._tell(f"waiting for {text}")

    def _tell(self, text: str) -> None:
        taken = time.monotonic() - self._begun
        print(f"  {taken:7.2f} s  {_plain(text)}", file=self._stream, flush=True)


def _plain(text: str) -> str:
    """A text that may hold names from outside, made safe to show."""
    return visible(without_credentials(text))


class Traffic(NamedTuple):
    """How many of the expected bytes have come since a time (seconds)."""

    size: int
    done: int
    begun: float

    def more(self, count: int) -> "Traffic":
        """The same, after so many more bytes."""
        return self._replace(done=self.done + count)

    def text(self, now: float) -> str:
        """Such as `: 1.2 MB of 3.4 MB, 1.1 MB/s, 2 s left`; empty where no bytes are expected."""
        taken = now - self.begun
        if not self.size or not self.done or taken <= 0:
            return ""
        if self.done >= self.size:
            return f": all {size_text(self.size)}"
        rate = self.done / taken
        left = (self.size - self.done) / rate
        told = f", {left:.0f} s left" if left >= 1 else ""
        return f": {size_text(self.done)} of {size_text(self.size)}, {size_text(rate)}/s{told}"


class _Moving:
    """A moving line, drawn by rich once the work has taken a while."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self._guard = threading.Lock()
        self._progress: Progress | None = None
        self._task: TaskID | None = None
        self._stage, self._total, self._done, self._said = "", 0, 0, ""
        self._traffic = Traffic(0, 0, 0.0)
        self._files: dict[str, Traffic] = {}
        self._rows: dict[str, TaskID] = {}
        self._width = 0

    def stage(self, text: str, total: int | None = None, *, size: int = 0) -> None:
        """Begin a stage."""
        with self._guard:
            self._stage, self._total, self._done = text, total or 0, 0
            self._traffic = Traffic(size, 0, time.monotonic())
            self._files.clear()
            self._draw("")

    def received(self, count: int, file: str, size: int) -> None:
        """Show the amount, the rate and the time left, of all and of each file that takes a while."""
        with self._guard:
            self._traffic = self._traffic.more(count)
            self._files[file] = self._files.get(file, Traffic(size, 0, time.monotonic())).more(count)
            self._draw(self._said)

    def step(self, text: str) -> None:
        """Show a step."""
        with self._guard:
            self._done += 1
            self._draw(text)

    def told(self, message: str, because: Sequence[str]) -> bool:
        """Print the failure; the moving line goes on below it."""
        self.close()
        sys.stderr.write("\n".join([*reasons(message, because, sys.stderr), ""]))
        sys.stderr.flush()
        return True

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
                self._rows.clear()
            self._begun = time.monotonic()

    def _draw(self, said: str) -> None:
        self._said = said
        if self._progress is None:
            if time.monotonic() - self._begun < _PATIENCE:
                return
            self._start()
        if self._progress is not None and self._task is not None:
            self._progress.update(
                self._task,
                description=_plain(f"{self._stage}{self._traffic.text(time.monotonic())} {said}")[
                    : self._width
                ],
                completed=self._traffic.done if self._traffic.size else self._done,
                total=self._traffic.size or self._total or None,
            )
            self._draw_files(self._progress)

    def _draw_files(self, progress: "Progress") -> None:
        """Draw a row for each file whose download takes a while, at most a few."""
        under_way = [name for name, traffic in self._files.items() if 0 < traffic.done < traffic.size]
        for name in self._rows.keys() - under_way:
            progress.remove_task(self._rows.pop(name))
        for name in under_way:
            if name not in self._rows and len(self._rows) < _MOST_ROWS:
                self._rows[name] = progress.add_task("", total=self._files[name].size)
        for name, row in self._rows.items():
            traffic = self._files[name]
            said = f"  {' '.join(name.split('-')[:2])}{traffic.text(time.monotonic())}"
            progress.update(row, description=_plain(said)[: self._width], completed=traffic.done)

    def _start(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, SpinnerColumn, TextColumn

        bar = BarColumn(bar_width=_BAR, complete_style="default", finished_style="default")
        console = Console(stderr=True)
        self._width = console.width - _BAR - 4  # else the bar would give way to the text
        columns = (SpinnerColumn("line"), bar, TextColumn("{task.description}", markup=False))
        self._progress = Progress(*columns, console=console, transient=True)
        self._task = self._progress.add_task(_plain(self._stage)[: self._width], total=None)
        self._progress.start()
