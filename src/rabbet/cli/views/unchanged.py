"""What `resolve` says of a lock that is up to date, and `recreate` of an environment that fits."""

from rabbet.cli.context import Context
from rabbet.cli.style import count
from rabbet.tasks.unchanged import Fit, UpToDate

__all__ = ["fit_text", "show_up_to_date"]


def show_up_to_date(found: UpToDate, context: Context) -> None:
    """Print one sentence."""
    following = "" if found.variant else " Next: rabbet recreate"
    locked = count(found.libraries, "library")
    context.show(f"{found.file} is up to date: {locked} for {found.targets}.{following}")


def fit_text(found: Fit) -> str:
    """One sentence."""
    libraries = count(found.libraries, "library")
    return f"{found.environment} matches the lock: {libraries}, {found.runtime}. Nothing to do."
