"""Small things that are remembered between runs, a file each; losing one costs time, never truth."""

import errno
import os
import threading
from contextlib import suppress
from pathlib import Path

__all__ = ["LAYOUT", "Memory", "write_at_once"]

LAYOUT = "layout-1"  # the folder of the store that holds everything in its present form


class Memory:
    """A folder of remembered contents. Keys are names of files: digests and the like."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def recall(self, key: str) -> bytes | None:
        """What was remembered under this key, if anything."""
        try:
            return (self._folder / key).read_bytes()
        except OSError:
            return None

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content. A store that can't be written forgets it, which is no error."""
        target = f"{self._folder}/{key}"
        temporary = f"{target}.{os.getpid()}.{threading.get_ident()}"
        with suppress(OSError):
            try:
                write_at_once(temporary, content)
            except FileNotFoundError:
                self._folder.mkdir(parents=True, exist_ok=True)
                write_at_once(temporary, content)
            os.replace(temporary, target)  # noqa: PTH105 - hundreds of times a run


def write_at_once(path: str, content: bytes) -> None:
    """Write with as few calls of the system as can be: each takes time, and lets another thread in between.

    Raises `OSError`.
    """
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o666)
    try:
        if os.write(descriptor, content) < len(content):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), path)
    finally:
        os.close(descriptor)
