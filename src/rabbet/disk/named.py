"""Paths as people write them."""

import os.path
from pathlib import Path

from rabbet.errors import WrongUsage

__all__ = ["path_named"]


def path_named(text: str, seen_from: Path) -> Path:
    """The path that a text names, seen from a folder: `~` is the user's home, `~NAME` another user's.

    A name of nobody stays as it is. Raises `WrongUsage` where no path can have that name.
    """
    if "\0" in text:
        raise WrongUsage(f"'{text}' is not a path", because=["it holds a character that no path can hold"])
    return seen_from / os.path.expanduser(text)  # noqa: PTH111 - pathlib's raises for a name of nobody
