"""What `run --now` and `enter --now` do first: bring lock and environment up to date, in passing."""

from rabbet.cli.context import Context
from rabbet.workspace.looking.result_cache import recall_up_to_date
from rabbet.workspace.session import Session

__all__ = ["bring_up_to_date"]


def bring_up_to_date(session: Session, context: Context) -> None:
    """Resolve and recreate where that may be due; what changed is told beside the output.

    Raises what resolving and recreating raise; lock and environment are then as before.
    """
    if recall_up_to_date(session):
        return
    from rabbet.cli.views.recreating.now import note_both  # here: mostly nothing is due
    from rabbet.tasks.recreating.now import bring_up_to_date as both

    note_both(both(session), context)
