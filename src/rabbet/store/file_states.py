"""A fingerprint of a tree from its files' metadata (inode, size, ctime), without reading them.

Two equal states mean that nobody has touched a file between. Its content, permissions and time can be changed
so that size and time are as before, but then the kernel notes when that was (`ctime`), which nobody can set.
Times are compared for being the same, never for being later: a clock that is set back deceives nobody. A hard
link that is made or removed elsewhere changes a file's state too: then its content has to be looked at.
"""

import hashlib
import os
import sys
from collections.abc import Sequence

from rabbet.store.folder import opened_folder

__all__ = ["state_of"]

_ENOUGH = 3000  # files that are looked at before a second process begins to help


def state_of(root: str, *, enough: int = _ENOUGH) -> str:
    """The state of all files and links below a folder, wherever it lies. Raises `OSError`.

    Where there are more than `enough` files, a second process looks at half of what is left.
    """
    found, waiting = _looked_at(root, [""], enough)
    if waiting:
        from rabbet.store.alongside import in_parts  # here: most trees are small

        parts = [part for part in (waiting[::2], waiting[1::2]) if part]
        found += in_parts(lambda part, _: _looked_at(root, part, sys.maxsize)[0], parts, lambda _: None)
    return hashlib.blake2b("".join(sorted(found)).encode(), digest_size=20).hexdigest()


def _looked_at(root: str, folders: Sequence[str], enough: int) -> tuple[list[str], list[str]]:
    """The states of these folders and those below, each as one text, until there were enough files.

    What is left comes second. Raises `OSError`.
    """
    found, waiting, files = [], list(folders), 0
    while waiting and files < enough:
        below = waiting.pop()
        states = [below]
        with opened_folder(f"{root}/{below}") as descriptor, os.scandir(descriptor) as entries:
            for entry in entries:  # in the order in which the folder has them, as long as nobody touches it
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(f"{below}/{entry.name}")
                else:
                    state = entry.stat(follow_symlinks=False)
                    states.append(f"{entry.name}/{state.st_ino}/{state.st_size}/{state.st_ctime_ns}")
        content = "\0".join(states).encode(errors="surrogateescape")
        found.append(hashlib.blake2b(content, digest_size=20).hexdigest())
        files += len(states)
    return found, waiting
