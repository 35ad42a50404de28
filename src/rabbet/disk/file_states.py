"""A fingerprint of a tree from its files' metadata (inode, size, ctime), without reading them; disk usage.

Two equal states mean that nobody has touched a file between. Its content, permissions and time can be changed
so that size and time are as before, but then the kernel notes when that was (`ctime`), which nobody can set.
Times are compared for being the same, never for being later: a clock that is set back deceives nobody. A hard
link that is made or removed elsewhere changes a file's state too: then its content has to be looked at.
"""

import hashlib
import os
from typing import NamedTuple

from rabbet.disk.folder import opened_folder

__all__ = ["Size", "size_of", "state_of"]


def state_of(root: str) -> str:
    """The state of all files and links below a folder, wherever it lies. Raises `OSError`."""
    digest = hashlib.blake2b(digest_size=20)
    waiting = [""]
    while waiting:
        below = waiting.pop()
        states = [below]
        with opened_folder(f"{root}/{below}") as descriptor, os.scandir(descriptor) as entries:
            for entry in entries:  # in the order in which the folder has them, as long as nobody touches it
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(f"{below}/{entry.name}")
                else:
                    state = entry.stat(follow_symlinks=False)
                    states.append(f"{entry.name}/{state.st_ino}/{state.st_size}/{state.st_ctime_ns}")
        digest.update("\0".join([*states, ""]).encode(errors="surrogateescape"))
    return digest.hexdigest()


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
