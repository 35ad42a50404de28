"""A trial environment for one command: made before it, reported on standard error, removed afterwards."""

from argparse import Namespace
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.trials.trial import TrialSummary

__all__ = ["in_trial"]


@contextmanager
def in_trial(arguments: Namespace, session: Session, context: Context) -> Iterator[Path]:
    """The folder of an environment with what `--try` and `--taken-from` name. Raises as `trial` does."""
    from rabbet.disk.atomic import cannot_write
    from rabbet.disk.scratch import scratch_folder
    from rabbet.trials.make import trial
    from rabbet.trials.trial import Wish
    from rabbet.workspace.project import ENVIRONMENT

    machine = context.machine
    wish = Wish(tuple(arguments.tried), tuple(arguments.places))
    with scratch_folder(machine.store_folder / "trials", inherited=True) as folder:
        root = folder / f"{session.project.folder.name}-trial" / ENVIRONMENT  # prompts show the name above it
        with cannot_write(folder):
            root.mkdir(parents=True)
        with trial(session, wish, root, lambda: _fits(session)) as tried:
            for line in _told(tried):
                context.note(line)
            context.output.flush()
            yield root


def _told(tried: "TrialSummary") -> Iterator[str]:
    """The lines that tell what the trial brings, what it changes, and how to keep it."""
    if not tried.keeping:
        yield "for this once: nothing, for the lock holds all of it already"
        return
    brought = ", ".join(f"{name} {version}" for name, version in tried.brought)
    yield f"for this once: {brought or 'other releases of what is locked'}"
    for name, before, after in tried.changed:
        yield f"  {name} {after} in place of {before}" if after else f"  without {name} {before}"
    if not tried.changed:
        yield "  everything locked stays"
    yield f"  to keep it: {tried.keeping}"


def _fits(session: Session) -> bool:
    from rabbet.tasks.recreating.recreate import fits

    return fits(session)
