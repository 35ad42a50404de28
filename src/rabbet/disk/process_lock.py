"""Locks between processes; the kernel frees the lock of a process that died."""

import fcntl
import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from rabbet.disk.atomic import cannot_write
from rabbet.disk.folder import make_folder

__all__ = ["claimed"]


@contextmanager
def claimed(store: Path, name: str) -> Iterator[None]:
    """Hold the exclusive lock of this name; wait until it is free.

    The system itself lets go of the claim of a process that is killed. Raises `CannotWrite`.
    """
    folder = store / "claims"
    with cannot_write(store):
        make_folder(folder)
        path = folder / hashlib.sha256(name.encode(errors="surrogateescape")).hexdigest()
        claim = os.open(path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW, 0o600)
    try:
        with cannot_write(store):
            fcntl.flock(claim, fcntl.LOCK_EX)
        yield
    finally:
        os.close(claim)
