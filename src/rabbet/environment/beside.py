"""Making an environment beside the present one: until it is complete it has another name.

A run that is killed leaves what it was making, or both environments in the midst of the change of names; the
next run finishes that or undoes it. This module imports little: looking for such leftovers is a part of the
lightest runs.
"""

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rabbet.store.atomic import cannot_write

__all__ = ["clear_up", "leftovers", "taking_place_of"]

_NEW, _OLD = "new", "old"  # what takes the place, and what was there


def leftovers(home: Path) -> list[Path]:
    """Folders beside an environment in which one was being made; only who holds the claim may touch them."""
    return sorted(home.parent.glob(f"{home.name}.partial-*"))


@contextmanager
def taking_place_of(home: Path) -> Iterator[Path]:
    """A new folder on the same file system, which takes the environment's place at the end.

    If what is done with it fails, it goes, and the environment stays. Raises `CannotWrite`.
    """
    beside = home.parent / f"{home.name}.partial-{os.urandom(4).hex()}"
    with cannot_write(home.parent):
        beside.mkdir()
    try:
        with cannot_write(home):
            (beside / _NEW).mkdir()
        yield beside / _NEW
        with cannot_write(home):
            if home.exists() or home.is_symlink():
                home.rename(beside / _OLD)
            (beside / _NEW).rename(home)
    finally:
        _finish(beside, home)  # an interruption may have come between the two changes of name


def clear_up(home: Path) -> None:
    """Finish or undo what a killed run had begun; only who holds the claim may."""
    from rabbet.environment.stamp import read_stamp

    for beside in leftovers(home):
        _finish(beside, home)
    if read_stamp(home) is not None:
        for half_written in home.glob(".rabbet.*"):
            half_written.unlink(missing_ok=True)


def _finish(beside: Path, home: Path) -> None:
    """Remove the folder beside, but never the only environment that is left.

    Where the old one was put aside already, the new one is complete and takes its place, else the old one.
    """
    import shutil

    for ready in (beside / _NEW, beside / _OLD):
        if (beside / _OLD).exists() and not (home.exists() or home.is_symlink()):
            with suppress(OSError):
                ready.rename(home)
    if home.exists() or home.is_symlink() or not (beside / _OLD).exists():
        shutil.rmtree(beside, ignore_errors=True)
