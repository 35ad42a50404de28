"""What became of the declaration: for `declare` and `retract`."""

from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.cli.context import Context, View
from rabbet.cli.style import table
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.edit import Change
from rabbet.tasks.declare import Done, entries_of

__all__ = ["ChangesView", "EntriesView", "entry_text", "verb_of"]


class ChangesView(Struct, frozen=True):
    """What became of each entry, and what came of it where it was carried out at once."""

    schema: ClassVar[str] = "changes"

    done: Done

    def show(self, context: Context) -> None:
        """Print one row a change, and what to do next."""
        edited = self.done.edited
        rows = [(verb_of(change), entry_text(change), change.place) for change in edited.changes]
        if rows:
            for line in table(("change", "entry", "in"), rows, context.style):
                context.show(line)
            context.show()
        if edited.kept:
            context.show(f"Named as well, so that it stays served: {', '.join(edited.kept)}.")
        for view in _carried_out(self.done).values():
            view.show(context)
        if self.done.recreated is None:
            following = " Next: rabbet resolve" if edited.bears_on_lock else ""
            changed = f"pyproject.toml is changed.{following}"
            context.show(
                changed if edited.changed else "pyproject.toml says so already; nothing was changed."
            )

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        edited = self.done.edited
        return {
            "changed": edited.changed,
            "changes": [{"change": verb_of(change), **asdict(change)} for change in edited.changes],
            "kept": list(edited.kept),
            **{name: view.document() for name, view in _carried_out(self.done).items()},
        }


def _carried_out(done: Done) -> dict[str, View]:
    """What became of the lock and the environment, if the change went on to them."""
    if done.recreated is None:
        return {}
    from rabbet.cli.views.recreate import RecreateView
    from rabbet.cli.views.resolve import ResolvedView

    resolved = ResolvedView(done.resolved, going_on=True)
    return {"resolve": resolved, "recreate": RecreateView(done.recreated, done=True)}


class EntriesView(Struct, frozen=True):
    """All that is declared."""

    schema: ClassVar[str] = "declared"

    declaration: Declaration

    def show(self, context: Context) -> None:
        """Print one row an entry."""
        for line in table(("what", "declared"), entries_of(self.declaration), context.style):
            context.show(line)
        context.show()
        some = any(True for _ in self.declaration.declared())
        following = "rabbet resolve" if some else "rabbet help declare"
        context.show(f"That is all that {self.declaration.name} declares. Next: {following}")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        entries = [{"what": what, "entry": entry} for what, entry in entries_of(self.declaration)]
        return {"project": self.declaration.name, "entries": entries}


def verb_of(change: Change) -> str:
    """What became of an entry, in a word or two."""
    if not change.happened:
        return "declared already"
    if not change.before:
        return "added"
    return "changed" if change.after else "removed"


def entry_text(change: Change) -> str:
    """An entry, before and after where it was changed."""
    changed = change.happened and change.before and change.after
    return f"{change.before} → {change.after}" if changed else change.after or change.before
