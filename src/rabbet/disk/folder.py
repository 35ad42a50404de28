"""Folders: opened once for many files, and made for their owner alone."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

__all__ = ["make_folder", "opened_folder"]


@contextmanager
def opened_folder(folder: str) -> Iterator[int]:
    """A folder's descriptor, for functions that take a `dir_fd`: files are found without walking down to it.

    Raises `OSError`, also where it is a link.
    """
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        yield descriptor
    finally:
        os.close(descriptor)


def make_folder(folder: Path) -> None:
    """Make a folder and its missing parents, accessible to their owner alone. Raises `OSError`."""
    if not folder.is_dir():
        make_folder(folder.parent)
        folder.mkdir(mode=0o700, exist_ok=True)
