"""The context of a command besides its arguments: machine, streams, progress observer.

Every command loads this, so the classes here, and those that they hold, are named tuples: to import
msgspec takes as long as all of `argparse`.
"""

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, NamedTuple, Protocol, TextIO

from rabbet.cli.terminal.observer import ClosableObserver, observer_for
from rabbet.cli.terminal.output import in_ascii, write_line
from rabbet.cli.terminal.style import Style, TableLine, style_for, table
from rabbet.core.shown_text import visible, without_credentials
from rabbet.documents.amounts import count, size_text
from rabbet.documents.document import Document, with_schema
from rabbet.errors import NoDeclaration
from rabbet.workspace.machine import Machine

if TYPE_CHECKING:
    from argparse import Namespace
    from collections.abc import Mapping, Sequence

    from rabbet.api import Rabbet
    from rabbet.workspace.places import Place
    from rabbet.workspace.project import Project
    from rabbet.workspace.session import Session

__all__ = ["Context", "View", "make_context"]

MOST_ROWS = 40  # of a table on a terminal, unless all are asked for


class View(Document, Protocol):
    """A document that is shown to people, too."""

    def show(self, context: "Context") -> None:
        """Print it."""


class Context(NamedTuple):
    """The world as a command sees it."""

    machine: Machine
    input: TextIO
    output: TextIO
    notes: TextIO
    style: Style
    observer: ClosableObserver
    verbose: bool = False
    all_rows: bool = False
    place: "Place | None" = None

    @property
    def interactive(self) -> bool:
        """Whether somebody can be asked."""
        return self.machine.attended

    def project(self) -> "Project":
        """The project of the place that was named, or of the current folder. Raises `NoDeclaration`."""
        if self.place is not None:
            return self.place.project
        from rabbet.workspace.project import find_project

        return find_project(self.machine.folder)

    def project_if_any(self) -> "Project | None":
        """The same project; `None` outside of any, where the user's own settings count."""
        try:
            return self.project()
        except NoDeclaration:
            return None

    def rabbet(self, variant: str | None = None) -> "Rabbet":
        """The same project as other programs work with it. Raises `NoDeclaration`."""
        from rabbet.api import Rabbet

        return Rabbet.on(self.session(variant))

    def session(self, variant: str | None = None) -> "Session":
        """The project of the current folder, or a variant of it, for a task. Raises `NoDeclaration`."""
        from rabbet.workspace.session import Session

        return Session(self.project().of(variant), self.machine, self.observer)

    def show(self, text: str = "") -> None:
        """Print a line of the result without secrets, after clearing progress from the screen.

        Whatever it holds, it does nothing to the terminal (`visible`), and anywhere else stays one line.
        """
        if isinstance(text, TableLine):
            self._print(text)
            return
        text = visible(self.place.told(text) if self.place else text)
        for line in self._wrapped(in_ascii(text) if self.style.ascii_only else text):
            self._print(line)

    def show_table(
        self,
        headings: "Sequence[str]",
        rows: "Sequence[Sequence[str]]",
        *,
        tones: "Mapping[str, str] | None" = None,
    ) -> None:
        """Print a table; on a terminal, of a long one the number of its rows and the first ones."""
        shown = len(rows) if self.all_rows or not self.style.width else MOST_ROWS
        if len(rows) > shown:
            self.show(f"{len(rows)} rows, and the first {shown} of them (--all-rows shows all):")
        for line in table(headings, rows[:shown], self.style, tones=tones):
            self._print(line)

    def at_once(self, arguments: "Namespace") -> bool:
        """Whether a command goes on to the lock and the environment: told so, or by the user's settings."""
        if arguments.now or arguments.not_now:
            return bool(arguments.now)
        return self.machine.settings_file().is_file() and self.machine.settings().now

    def show_text(self, text: str) -> None:
        """Print a whole text as it is, such as a file for another program; it holds no secrets."""
        self._print(text.removesuffix("\n"))

    def note(self, text: str) -> None:
        """Print a line beside the result, such as what comes before another program's output."""
        self.observer.close()
        text = visible(self.place.told(text) if self.place else text)
        write_line(self.notes, without_credentials(text))

    def _wrapped(self, text: str) -> list[str]:
        """Wrap a line to the terminal's width; a sentence with a command stays whole, on its own line."""
        if not self.style.width or len(text) <= self.style.width:
            return [text]
        if "rabbet " in text:
            before, stop, _ = text[: text.index("rabbet ")].rpartition(". ")
            return [*self._wrapped(f"{before}."), text[len(before + stop) :]] if stop else [text]
        from textwrap import wrap

        indent = " " * (len(text) - len(text.lstrip()))
        return wrap(text, self.style.width, subsequent_indent=f"{indent}  ", break_on_hyphens=False)

    def present(self, view: View, *, as_json: bool) -> None:
        """Print what a command found, as text or as the one document of `--json`."""
        if as_json:
            self.show_json(view)
        else:
            view.show(self)

    def show_json(self, found: Document) -> None:
        """Print one JSON document."""
        import json

        traffic = {"traffic": [host._asdict() for host in self.machine.traffic()]} if self.verbose else {}
        text = json.dumps({**with_schema(found), **traffic}, indent=2)
        self._print(text.replace("\x7f", "\\u007f"))  # the one control character that JSON lets stand

    def _print(self, text: str) -> None:
        self.observer.close()
        write_line(self.output, without_credentials(text))


@contextmanager
def make_context(
    *, quiet: bool, verbose: bool, all_rows: bool, offline: bool, fresh_listings: bool
) -> Iterator[Context]:
    """The context of this process: nothing else touches its streams."""
    machine = Machine.of_this_process(
        offline=offline,
        fresh_listings=fresh_listings,
        attended=sys.stdin.isatty() and sys.stdout.isatty(),
    )
    context = Context(
        machine=machine,
        input=sys.stdin,
        output=sys.stdout,
        notes=sys.stderr,
        style=style_for(sys.stdout, machine.environ),
        observer=observer_for(sys.stderr, quiet=quiet, verbose=verbose),
        verbose=verbose,
        all_rows=all_rows,
    )
    try:
        yield context
    finally:
        context.observer.close()
        for line in _traffic_lines(context) if verbose else ():
            context.note(line)
        context.machine.close()


def _traffic_lines(context: Context) -> Iterator[str]:
    """A line for each host on the requests sent to it, to show where the time went."""
    for host in context.machine.traffic():
        unchanged = f", {host.unchanged} unchanged" if host.unchanged else ""
        yield (
            f"asked {host.host}: {count(host.requests, 'request')}{unchanged}, {size_text(host.received)},"
            f" the slowest took {host.slowest:.2f} s"
        )
