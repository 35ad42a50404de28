"""A cache of small blobs, one file a key; losing an entry costs time only.

Each carries a digest of its key and its content, which is checked when it is read: what was damaged on the
disk, or lies under another's name, is dropped and computed again. `--trace` reports it.
"""

import errno
import hashlib
import os
import sys
import threading
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from rabbet.core.limits import MOST_NOTES
from rabbet.disk.folder import make_folder
from rabbet.disk.regular_file import read_regular

__all__ = ["FORGOTTEN", "BlobCache", "sealed", "unsealed", "write_at_once"]

FORGOTTEN = "rabbet.forgotten"  # the audit event (PEP 578) of something damaged that was forgotten
_DIGEST = 16  # bytes


class BlobCache:
    """A folder of remembered contents. Keys are names of files: digests and the like."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def recall(self, key: str) -> bytes | None:
        """The stored content; `None` when absent or damaged."""
        path = f"{self._folder}/{key}"
        try:
            return unsealed(key, read_regular(path, most=MOST_NOTES))
        except FileNotFoundError:
            return None
        except (OSError, ValueError):
            self.forget(key)
            sys.audit(FORGOTTEN, path)
            return None

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content. A store that can't be written forgets it, which is no error."""
        target = f"{self._folder}/{key}"
        temporary = f"{self._folder}/.{key}.{os.getpid()}.{threading.get_ident()}"
        with suppress(OSError):
            try:
                write_at_once(temporary, sealed(key, content))
            except FileNotFoundError:
                make_folder(self._folder)
                write_at_once(temporary, sealed(key, content))
            os.replace(temporary, target)  # noqa: PTH105 - hundreds of times a run

    def changed(self, key: str) -> float:
        """When an entry was last written, in seconds since the epoch. Raises `OSError` if there is none."""
        return os.stat(f"{self._folder}/{key}").st_mtime  # noqa: PTH116 - as above

    def forget(self, key: str) -> None:
        """Remove an entry."""
        with suppress(OSError):
            os.unlink(f"{self._folder}/{key}")  # noqa: PTH108 - as above

    def __iter__(self) -> Iterator[str]:
        """All keys that something is remembered under, sorted."""
        with suppress(OSError):
            yield from sorted(name for name in os.listdir(self._folder) if name[0] != ".")  # noqa: PTH208 - as above


def sealed(key: str, content: bytes) -> bytes:
    """A content with its digest before it."""
    return _digest(key, content) + content


def unsealed(key: str, content: bytes) -> bytes:
    """A content without its digest. Raises `ValueError` where that is of another one."""
    digest, inner = content[:_DIGEST], content[_DIGEST:]
    if digest != _digest(key, inner):
        raise ValueError(key)
    return inner


def _digest(key: str, content: bytes) -> bytes:
    digest = hashlib.blake2b(f"{key}\n".encode(), digest_size=_DIGEST)
    digest.update(content)
    return digest.digest()


def write_at_once(path: str, content: bytes) -> None:
    """Write with as few system calls as possible: each costs time and a thread switch.

    Raises `OSError`.
    """
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    try:
        if os.write(descriptor, content) < len(content):
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), path)
    finally:
        os.close(descriptor)
