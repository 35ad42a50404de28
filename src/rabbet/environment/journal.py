"""The note of a change that is under way: there before the first file is touched, gone after the last.

A run that is killed leaves it inside the environment, and whoever looks next knows which libraries may be
half there.
"""

from collections.abc import Collection
from pathlib import Path

from rabbet.store.atomic import cannot_write, write_text

__all__ = ["close_journal", "open_journal", "unfinished_libraries"]

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
