"""Disk usage of an environment: its own files, and those shared with the store."""

import os
from typing import NamedTuple

__all__ = ["Size", "size_of"]


class Size(NamedTuple):
    """Bytes in files that only this environment has, and in files that other places link to as well."""

    own: int
    shared: int


def size_of(root: str) -> Size:
    """Add up all files below a folder. Raises `OSError`."""
    own = shared = 0
    waiting = [root]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                    continue
                state = entry.stat(follow_symlinks=False)
                if state.st_nlink > 1:
                    shared += state.st_size
                else:
                    own += state.st_size
    return Size(own, shared)
