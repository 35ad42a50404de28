"""Lock and environment brought up to date in one step: both, or neither."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from msgspec import Struct

from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.disk.atomic import put_back_on_failure
from rabbet.tasks.recreating.recreate import RecreateReport, recreate
from rabbet.tasks.resolving.resolve import Resolved, resolve
from rabbet.workspace.session import Session

__all__ = ["BroughtUp", "all_or_nothing", "both", "bring_up_to_date", "files_put_back"]


class BroughtUp(Struct, frozen=True):
    """The results for the locks and for the environment."""

    resolved: tuple[Resolved, ...]
    recreated: RecreateReport

    @property
    def changed(self) -> bool:
        """Whether a lock or the environment is another one than before."""
        return not (self.recreated.plan.idle and all(resolved.untouched for resolved in self.resolved))


@contextmanager
def all_or_nothing(session: Session) -> Iterator[None]:
    """Put declaration and locks back if what is done inside fails; one process at a time."""
    with (
        session.machine.store.claimed(str(session.project.declaration_file)),
        files_put_back(session),
    ):
        yield


@contextmanager
def files_put_back(session: Session) -> Iterator[None]:
    """Put declaration and locks back if what is done inside fails.

    The environment needs no such care: it is changed last, and whole or not at all.
    """
    declaration, preferred = session.project.declaration_file, session.project.preferred_file

    def locks() -> list[Path]:
        return list(session.project.home.glob("pylock*.toml"))

    def written() -> list[Path]:
        return [*locks(), *(file for file in (declaration, preferred) if file.is_file())]

    with put_back_on_failure([declaration, preferred, *locks()], new=written):
        yield


def bring_up_to_date(session: Session, options: ResolveOptions | None = None) -> BroughtUp:
    """Resolve, then recreate; a failure leaves locks and environment as they were.

    Raises what these raise.
    """
    with all_or_nothing(session):
        return both(session, options)


def both(session: Session, options: ResolveOptions | None = None) -> BroughtUp:
    """Resolve, then recreate, inside `all_or_nothing`. Raises what these raise."""
    resolved = resolve(session, options or ResolveOptions())
    return BroughtUp(resolved, recreate(session, RecreateOptions()))
