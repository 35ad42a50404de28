"""The view of what `--now` did: the locks, then the environment, each library once."""

from collections.abc import Sequence

from rabbet.cli.context import Context
from rabbet.cli.views.recreating.recreate import RecreateView, outcome
from rabbet.cli.views.resolving.resolve import ResolvedView, locked_text
from rabbet.documents.recreating.now import BroughtUpDocument
from rabbet.tasks.recreating.now import BroughtUp
from rabbet.tasks.recreating.recreate import RecreateReport
from rabbet.tasks.resolving.resolve import Resolved

__all__ = ["BroughtUpView", "note_both", "note_recreated", "show_both"]


class BroughtUpView(BroughtUpDocument, frozen=True):
    """What was locked, and what was done to the environment."""

    def show(self, context: Context) -> None:
        """Print both."""
        show_both(self.brought.resolved, self.brought.recreated, context)


def show_both(resolved: Sequence[Resolved], recreated: RecreateReport, context: Context) -> None:
    """Print the changes of the locks, and of the environment those that the locks do not tell."""
    ResolvedView(tuple(resolved), going_on=True).show(context)
    own = [found for found in resolved if found.variant == recreated.variant]
    listed = {(move.name, str(move.after)) for found in own for move in found.moves}
    RecreateView(recreated, done=True, listed=frozenset(listed)).show(context)


def note_both(brought: BroughtUp, context: Context) -> None:
    """Tell in a line each, beside another program's output, what changed; nothing where nothing did."""
    for resolved in brought.resolved:
        if not resolved.untouched:
            context.note(locked_text(resolved))
    if not brought.recreated.plan.idle:
        note_recreated(brought.recreated, context)


def note_recreated(report: RecreateReport, context: Context) -> None:
    """Tell in a line, beside another program's output, what was done to the environment."""
    context.note(outcome(report).partition(" Next: ")[0])
