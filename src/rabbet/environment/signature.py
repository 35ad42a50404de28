"""The state of files in one short text: their names, sizes and times, without reading any of them.

Two equal signatures mean that nobody has touched the files between, as far as size and time tell. Times are
compared for being the same, never for being later: a clock that is set back deceives nobody.
"""

import hashlib
import os
from collections.abc import Iterable

from rabbet.environment.folder import opened_folder

__all__ = ["signature_of", "signature_of_files"]


def signature_of_files(states: Iterable[tuple[str, int, int]]) -> str:
    """The signature of files of which path, size and time (ns) are known."""
    return hashlib.sha256(repr(sorted(states)).encode(errors="surrogateescape")).hexdigest()


def signature_of(root: str) -> str:
    """The signature of all files below a folder, but for what Python compiles by itself. Raises `OSError`."""
    digest = hashlib.sha256()
    waiting = [root]
    while waiting:
        folder = waiting.pop()
        states = [folder]
        with opened_folder(folder) as descriptor, os.scandir(descriptor) as entries:
            for entry in entries:  # in the order in which the folder has them, as long as nobody touches it
                if entry.is_dir(follow_symlinks=False):
                    if entry.name != "__pycache__":
                        waiting.append(f"{folder}/{entry.name}")
                else:
                    state = entry.stat(follow_symlinks=False)
                    states.append(f"{entry.name}/{state.st_size}/{state.st_mtime_ns}/{state.st_mode}")
        digest.update("\0".join([*states, ""]).encode(errors="surrogateescape"))
    return digest.hexdigest()
