"""The note of a change that is under way: there before the first file is touched, gone after the last.

A run that is killed leaves it inside the environment, and whoever looks next knows which libraries may be
half there. An environment that is made anew needs none: until it is complete it has another name, and the
change of names is finished by `clear_up`.
"""

import shutil
from collections.abc import Collection
from pathlib import Path

from rabbet.environment.leftovers import leftovers
from rabbet.environment.stamp import read_stamp
from rabbet.store.atomic import cannot_write, write_text

__all__ = ["NEW", "OLD", "clear_up", "close_journal", "open_journal", "unfinished_libraries"]

NEW, OLD = "new", "old"  # folders beside the environment: what takes its place, and what it was
_NAME = "rabbet.journal"


def open_journal(root: Path, libraries: Collection[str]) -> None:
    """Note which libraries will be changed. Raises `CannotWrite`."""
    write_text(root / _NAME, "".join(f"{name}\n" for name in sorted(libraries)))


def close_journal(root: Path) -> None:
    """The change is complete, or there was nothing left to change. Raises `CannotWrite`."""
    with cannot_write(root):
        (root / _NAME).unlink(missing_ok=True)


def unfinished_libraries(root: Path) -> frozenset[str]:
    """Which libraries a run that was cut short was changing."""
    try:
        return frozenset((root / _NAME).read_text(encoding="utf-8").splitlines())
    except OSError:
        return frozenset()


def clear_up(root: Path) -> None:
    """Finish or undo what a killed run had begun beside the environment; only who holds the claim may.

    Where the old environment was put aside already, the new one was complete, and takes its place now.
    Raises `CannotWrite`.
    """
    for beside in leftovers(root):
        if not root.exists() and not root.is_symlink():
            ready = next((one for one in (beside / NEW, beside / OLD) if read_stamp(one)), None)
            if (beside / OLD).exists() and ready is not None:
                with cannot_write(root):
                    ready.rename(root)
        shutil.rmtree(beside, ignore_errors=True)
    for half_written in root.glob(".rabbet.*"):
        half_written.unlink(missing_ok=True)
