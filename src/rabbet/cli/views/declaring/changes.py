"""The view of `declare` and `retract`: each change of the declaration."""

from rabbet.cli.context import Context
from rabbet.cli.terminal.style import table
from rabbet.core.declaration.edit import EditResult
from rabbet.core.declaration.entries import entries
from rabbet.documents.declaring.changes import ChangesDocument, EntriesDocument, verb_of

__all__ = ["ChangesView", "EntriesView", "entry_text", "verb_of"]


class ChangesView(ChangesDocument, frozen=True):
    """Each entry's outcome, and that of resolving and recreating where they followed at once."""

    def show(self, context: Context) -> None:
        """Print one row a change, and what to do next."""
        edited = self.done.edited
        rows = [(verb_of(change), entry_text(change), change.place) for change in edited.changes]
        if rows:
            for line in table(("change", "entry", "in"), rows, context.style):
                context.show(line)
            context.show()
        if edited.runtimes:
            are = "is a runtime" if len(edited.runtimes) == 1 else "are runtimes"
            context.show(f"{', '.join(edited.runtimes)} {are}, and no library of that name is meant.")
        if edited.kept:
            context.show(f"Named as well, so that it stays served: {', '.join(edited.kept)}.")
        if self.done.recreated is not None:
            from rabbet.cli.views.recreating.recreate import RecreateView
            from rabbet.cli.views.resolving.resolve import ResolvedView

            ResolvedView(self.done.resolved, going_on=True).show(context)
            RecreateView(self.done.recreated, done=True).show(context)
        else:
            following = " Next: rabbet resolve" if edited.bears_on_lock else ""
            changed = f"pyproject.toml is changed.{following}"
            context.show(
                changed if edited.changed else "pyproject.toml says so already; nothing was changed."
            )


class EntriesView(EntriesDocument, frozen=True):
    """All that is declared."""

    def show(self, context: Context) -> None:
        """Print one row an entry."""
        rows = [(entry.what, entry.text) for entry in entries(self.declaration)]
        for line in table(("what", "declared"), rows, context.style):
            context.show(line)
        context.show()
        some = any(True for _ in self.declaration.declared())
        following = "rabbet resolve" if some else "rabbet help declare"
        context.show(f"That is all that {self.declaration.name} declares. Next: {following}")


def entry_text(change: EditResult) -> str:
    """An entry, before and after where it was changed."""
    changed = change.happened and change.before and change.after
    return f"{change.before} → {change.after}" if changed else change.after or change.before
