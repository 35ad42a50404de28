"""The state of files in one short text: their names, sizes and times, without reading any of them.

Two equal signatures mean that nobody has touched the files between, as far as size and time tell. Times are
compared for being the same, never for being later: a clock that is set back deceives nobody.
"""

import hashlib
import os
from collections.abc import Iterable

__all__ = ["signature_of", "signature_of_files"]


def signature_of_files(states: Iterable[tuple[str, int, int]]) -> str:
    """The signature of files of which path, size and time (ns) are known."""
    return hashlib.sha256(repr(sorted(states)).encode(errors="surrogateescape")).hexdigest()


def signature_of(root: str) -> str:
    """The signature of all files below a folder, but for what Python compiles by itself. Raises `OSError`."""
    states = []
    waiting = [root]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    if entry.name != "__pycache__":
                        waiting.append(entry.path)
                else:
                    state = entry.stat(follow_symlinks=False)
                    states.append((entry.path, state.st_size, state.st_mtime_ns, state.st_mode))
    states.sort()
    return hashlib.sha256(repr(states).encode(errors="surrogateescape")).hexdigest()
