"""A journal of the change in progress: written before the first file is touched, removed after the last.

A run that is killed leaves it inside the environment, so that the next run knows which libraries may be
half there.
"""

from collections.abc import Collection
from pathlib import Path

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.atomic import cannot_write
from rabbet.disk.regular_file import read_regular
from rabbet.python.environment.place.guarded import GuardedEnvironment

__all__ = ["close_journal", "open_journal", "unfinished_libraries"]

_NAME = "rabbet.journal"


def open_journal(guarded: GuardedEnvironment, libraries: Collection[str]) -> None:
    """Note which libraries will be changed. Raises `CannotWrite`."""
    with cannot_write(guarded.layout.root):
        guarded.write(_NAME, "".join(f"{name}\n" for name in sorted(libraries)).encode())


def close_journal(guarded: GuardedEnvironment) -> None:
    """The change is complete, or there was nothing left to change. Raises `CannotWrite`."""
    with cannot_write(guarded.layout.root):
        guarded.remove_tree(_NAME)


def unfinished_libraries(root: Path) -> frozenset[str]:
    """Which libraries a run that was cut short was changing."""
    try:
        return frozenset(read_regular(root / _NAME, most=MOST_TEXT_FILE).decode().splitlines())
    except (OSError, UnicodeDecodeError):
        return frozenset()
