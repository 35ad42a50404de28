"""What `run` and `enter` do first, in passing: bring lock and environment up to date, and tell of it."""

from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.workspace.looking.result_cache import recall_up_to_date
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.tasks.recreating.run import Rebuilt

__all__ = ["bring_up_to_date", "note_edited"]


def bring_up_to_date(session: Session, context: Context) -> None:
    """Resolve and recreate where that may be due; what changed is told beside the output.

    Raises what resolving and recreating raise; lock and environment are then as before.
    """
    if recall_up_to_date(session):
        return
    from rabbet.cli.views.recreating.now import note_both  # here: mostly nothing is due
    from rabbet.tasks.recreating.now import bring_up_to_date as both

    note_both(both(session), context)
    if context.place is not None:
        context.place.write_back(locking=False)


def note_edited(rebuilt: "Rebuilt", context: Context) -> None:
    """Tell which editable forms were built again because their sources were edited, or could not be."""
    if rebuilt.names:
        context.note(f"Built again, because its sources changed: {', '.join(rebuilt.names)}.")
    if rebuilt.failed:
        context.note(f"Its sources changed, and {rebuilt.failed}: the form of before stays installed.")
        context.note("To see why: rabbet recreate")
