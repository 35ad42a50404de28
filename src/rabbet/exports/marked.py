"""Files that Rabbet wrote for other programs, and that it may write again while nobody has edited them.

The first line tells a digest of what follows, and of which lock it was made.
"""

import hashlib
import re
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.shown_text import comment
from rabbet.disk.atomic import write_text
from rabbet.disk.regular_file import read_regular
from rabbet.errors import CannotWrite

__all__ = ["CONTAINER", "EDITOR", "IGNORE", "Making", "Mark", "mark_of", "stale_files", "write_marked"]

CONTAINER, IGNORE, EDITOR = "Containerfile", ".containerignore", ".devcontainer/devcontainer.json"
EXPORTED = (CONTAINER, EDITOR)  # those that tell of a lock

_LINE = re.compile(r"(?:#|//) made by rabbet of lock ([0-9a-f]{16}), content ([0-9a-f]{16})")
_DIGITS = 16


class Mark(NamedTuple):
    """Of which lock a file was made, and whether it is as it was written."""

    lock: str
    untouched: bool


def mark_of(path: Path) -> Mark | None:
    """The mark of a file; `None` for one that is not Rabbet's, or not there."""
    text = _text(path)
    if text is None:
        return None
    first, _, rest = text.partition("\n")
    found = _LINE.match(first)
    return Mark(found.group(1), found.group(2) == _digest(rest)) if found else None


def _text(path: Path) -> str | None:
    """A file's text; `None` where none can be read."""
    try:
        return read_regular(path, most=MOST_BY_HAND).decode()
    except (OSError, ValueError):
        return None


def stale_files(folder: Path, lock: str) -> list[str]:
    """The exported files in a project's folder that were made of another lock than this one, by its stamp."""
    marks = {name: mark_of(folder / name) for name in EXPORTED}
    return [name for name, mark in marks.items() if mark is not None and mark.lock != lock[:_DIGITS]]


class Making(NamedTuple):
    """The digest of the lock that a file is made of, the command that makes it, what begins a comment."""

    lock: str
    again: str
    comment: str = "#"


def write_marked(folder: Path, name: str, content: str, making: Making, *, force: bool = False) -> bool:
    """Write a file of a project's folder with its mark; whether that changed anything.

    Raises `CannotWrite` for one that somebody else wrote, or edited, unless it is to be replaced by `force`.
    """
    path = folder / name
    mark = mark_of(path)
    if path.exists() and not force and (mark is None or not mark.untouched):
        raise CannotWrite(
            f"{path.name} was {'edited' if mark else 'written'} by somebody, so it was not changed",
            because=[str(path)],
            note="what follows writes it again; what was edited is lost then",
            remedy=making.again,
        )
    made_of = f"lock {making.lock[:_DIGITS]}, content {_digest(content)}"
    text = f"{comment(f'made by rabbet of {made_of}', making.comment)}\n{content}"
    if path.exists() and _text(path) == text:
        return False
    write_text(path, text, below=folder)
    return True


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:_DIGITS]
