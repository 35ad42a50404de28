"""The view of `declare` and `retract`: each change of the declaration."""

from rabbet.cli.context import Context
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
            context.show_table(("change", "entry", "in"), rows)
            context.show()
        if edited.runtimes:
            are = "is a runtime" if len(edited.runtimes) == 1 else "are runtimes"
            context.show(f"{', '.join(edited.runtimes)} {are}, and no library of that name is meant.")
        if edited.kept:
            context.show(f"Named as well, so that it stays served: {', '.join(edited.kept)}.")
        if self.done.planned:
            from rabbet.cli.views.resolving.resolve import ResolvedView

            ResolvedView(self.done.resolved, written=False).show(context)
        elif self.done.recreated is not None:
            from rabbet.cli.views.recreating.now import show_both

            show_both(self.done.resolved, self.done.recreated, context)
        else:
            following = " Next: rabbet resolve --now" if edited.bears_on_lock else ""
            changed = f"pyproject.toml is changed.{following}"
            context.show(
                changed if edited.changed else "pyproject.toml says so already; nothing was changed."
            )


class EntriesView(EntriesDocument, frozen=True):
    """All that is declared."""

    def show(self, context: Context) -> None:
        """Print one row an entry."""
        rows = [(entry.what, entry.text) for entry in entries(self.declaration)]
        context.show_table(("what", "declared"), rows)
        context.show()
        some = any(True for _ in self.declaration.declared())
        following = "rabbet resolve" if some else "rabbet help declare"
        context.show(f"That is all that {self.declaration.name} declares. Next: {following}")


def entry_text(change: EditResult) -> str:
    """An entry, before and after where it was changed."""
    changed = change.happened and change.before and change.after
    return f"{change.before} → {change.after}" if changed else change.after or change.before
