"""The views of `lend`."""

from collections.abc import Sequence

from rabbet.cli.context import Context
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.documents.more.lend import LentDocument, RaisedDocument
from rabbet.tasks.more.lend import Lent, Raised

__all__ = ["LentView", "RaisedView"]

_SHOWN = 5  # commands of a library or runtime: a JDK has 30


class LentView(LentDocument, frozen=True):
    """The libraries and runtimes whose commands are lent, or one that was lent just now (`new`)."""

    new: bool = False

    def show(self, context: Context) -> None:
        """Print one row a library; of a new one, where its commands are."""
        if self.new:
            for lent in self.found:
                commands = some_of(lent.note.commands, _SHOWN)
                context.show(f"Lent {lent.note.library} {lent.version}: {commands} in {lent.note.folder}.")
        else:
            rows = [
                (
                    lent.note.library,
                    str(lent.version or "-"),
                    some_of(lent.note.commands, _SHOWN),
                    _from(lent),
                    _state(lent),
                )
                for lent in self.found
            ]
            if rows:
                context.show_table(("library", "version", "commands", "from", "state"), rows)
                context.show()
            context.show(_lent_text(self.found))
        for folder in dict.fromkeys(lent.note.folder for lent in self.found if not lent.on_path):
            context.show(f"note: {folder} is not on PATH, so shells do not find commands there.")


class RaisedView(RaisedDocument, frozen=True):
    """The libraries that were raised, or stayed as they were."""

    def show(self, context: Context) -> None:
        """Print one row a library, and why one stayed."""
        rows = [
            (raised.library, str(raised.before or "-"), str(raised.after or "-"), _outcome(raised))
            for raised in self.found
        ]
        if rows:
            context.show_table(("library", "before", "now", "state"), rows)
            context.show()
        moved = sum(raised.before != raised.after for raised in self.found)
        context.show(f"{count(len(rows), 'library')} lent from environments of their own; raised: {moved}.")


def _from(lent: Lent) -> str:
    if lent.note.runtime:
        return lent.note.environment
    return lent.note.place or "an environment of its own"


def _lent_text(found: Sequence[Lent]) -> str:
    runtimes = sum(bool(lent.note.runtime) for lent in found)
    counted = [count(len(found) - runtimes, "library")] if len(found) > runtimes or not runtimes else []
    return f"{' and '.join(counted + [count(runtimes, 'runtime')] * bool(runtimes))} lent."


def _outcome(raised: Raised) -> str:
    return raised.kept or ("at its newest" if raised.before == raised.after else "raised")


def _state(lent: Lent) -> str:
    if lent.version is None:
        return "its program is gone" if lent.note.runtime else "its environment is gone"
    return f"{lent.newer} is known: rabbet lend --raise {lent.note.library}" if lent.newer else ""
