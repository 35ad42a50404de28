"""Build a new environment in a staging folder and swap it in when it is complete.

A run that is killed leaves what it was making, or both environments in the midst of the change of names; the
next run finishes that or undoes it. This module imports little: looking for such leftovers is a part of the
lightest runs.
"""

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rabbet.disk.atomic import cannot_write
from rabbet.errors import CannotWrite
from rabbet.store.environments import NAME_FILE, Environments, new_name

__all__ = ["clear_up", "discard_environment", "leftovers", "taking_place_of"]

_NEW, _OLD, _GONE = "new", "old", "gone"  # what takes the place, what was there, what is discarded


def leftovers(home: Path, environments: Environments) -> list[Path]:
    """Staging folders that killed runs left beside an environment; only the lock's holder may touch them."""
    found = sorted(home.parent.glob(f"{home.name}.partial-*"))
    return [folder for folder in found if environments.began(folder)]


@contextmanager
def taking_place_of(home: Path, environments: Environments) -> Iterator[Path]:
    """A staging folder on the same file system, swapped in at the end.

    It is known as this user's own before that. If what is done with it fails, it goes, and the environment
    stays. Raises `CannotWrite`.
    """
    beside = home.parent / f"{home.name}.partial-{os.urandom(8).hex()}"
    environments.begin(beside)
    with cannot_write(home.parent):
        beside.mkdir(mode=0o700)
    try:
        with cannot_write(home):
            (beside / _NEW).mkdir()
            (beside / _NEW / NAME_FILE).write_text(f"{new_name()}\n", encoding="ascii")
        yield beside / _NEW
        environments.note(beside / _NEW, place=home)
        if not environments.owns(beside / _NEW):
            raise CannotWrite(
                f"{environments.folder} can't be written",
                because=["without an entry there, Rabbet would treat the environment as foreign"],
                remedy="env RABBET_STATE=/tmp/rabbet-state rabbet recreate",
            )
        with cannot_write(home):
            if home.exists() or home.is_symlink():
                home.rename(beside / _OLD)
            (beside / _NEW).rename(home)
    finally:
        _finish(beside, home, environments)  # an interruption may have come between the two changes of name


def discard_environment(root: Path, environments: Environments) -> None:
    """Rename an environment, then remove it, so that nobody finds half of it. Raises `CannotWrite`."""
    import shutil

    beside = root.parent / f"{root.name}.partial-{os.urandom(8).hex()}"
    environments.begin(beside)
    with cannot_write(root):
        beside.mkdir(mode=0o700)
        root.rename(beside / _GONE)
        shutil.rmtree(beside)
    environments.end(beside)


def clear_up(home: Path, environments: Environments) -> None:
    """Finish or undo what a killed run began; only the lock's holder may."""
    for beside in leftovers(home, environments):
        _finish(beside, home, environments)
    if environments.owns(home):
        for half_written in home.glob(".rabbet.*"):
            half_written.unlink(missing_ok=True)


def _finish(beside: Path, home: Path, environments: Environments) -> None:
    """Remove a staging folder, unless it holds the only environment that is left.

    Where the old one was put aside already, the new one is complete and takes its place, else the old one.
    """
    import shutil

    for ready in (beside / _NEW, beside / _OLD):
        if (beside / _OLD).exists() and not (home.exists() or home.is_symlink()):
            with suppress(OSError):
                ready.rename(home)
    if home.exists() or home.is_symlink() or not (beside / _OLD).exists():
        shutil.rmtree(beside, ignore_errors=True)
        if not beside.exists():
            environments.end(beside)
