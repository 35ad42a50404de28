"""Files that Rabbet wrote for other programs, and that it may write again while nobody has edited them.

The first line tells a digest of what follows, and of which lock it was made.
"""

import hashlib
import re
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_BY_HAND
from rabbet.errors import CannotWrite
from rabbet.regular_file import read_regular
from rabbet.store.atomic import write_text

__all__ = ["CONTAINER", "EDITOR", "IGNORE", "Mark", "mark_of", "stale_files", "write_marked"]

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
    try:
        text = read_regular(path, most=MOST_BY_HAND).decode()
    except (OSError, ValueError):
        return None
    first, _, rest = text.partition("\n")
    found = _LINE.match(first)
    return Mark(found.group(1), found.group(2) == _digest(rest)) if found else None


def stale_files(folder: Path, lock: str) -> list[str]:
    """The exported files in a project's folder that were made of another lock than this one, by its stamp."""
    marks = {name: mark_of(folder / name) for name in EXPORTED}
    return [name for name, mark in marks.items() if mark is not None and mark.lock != lock[:_DIGITS]]


def write_marked(
    path: Path, content: str, lock: str, again: str, *, comment: str = "#", force: bool = False
) -> bool:
    """Write a file with its mark; whether that changed anything.

    Raises `CannotWrite` for one that somebody else wrote, or edited, unless it is to be replaced by `force`;
    `again` is the command that does so.
    """
    mark = mark_of(path)
    if path.exists() and not force and (mark is None or not mark.untouched):
        raise CannotWrite(
            f"{path.name} was {'edited' if mark else 'written'} by somebody, so it is left alone",
            because=[str(path)],
            note="what follows writes it anew; what was edited is lost then",
            remedy=again,
        )
    text = f"{comment} made by rabbet of lock {lock[:_DIGITS]}, content {_digest(content)}\n{content}"
    if path.exists() and read_regular(path, most=MOST_BY_HAND).decode() == text:
        return False
    path.parent.mkdir(parents=True, exist_ok=True)
    write_text(path, text)
    return True


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:_DIGITS]
