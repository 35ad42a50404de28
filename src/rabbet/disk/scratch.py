"""Temporary folders, removed also after the process that made them was killed."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rabbet.disk.atomic import cannot_write
from rabbet.disk.folder import make_folder

__all__ = ["scratch_folder"]

_LOCK = ".lock"


@contextmanager
def scratch_folder(parent: Path, *, inherited: bool = False) -> Iterator[Path]:
    """An empty folder in `parent`, which is removed in the end; what killed processes left there goes first.

    A lock tells that it is in use. If that is `inherited` by the programs that are started, nobody removes
    the folder while one of them runs. Raises `CannotWrite`.
    """
    with cannot_write(parent):
        make_folder(parent)
        _clear(parent)
        folder, lock = _begun(parent)
        os.set_inheritable(lock, inherited)
    try:
        yield folder
    finally:
        _remove(folder)
        os.close(lock)


def _begun(parent: Path) -> tuple[Path, int]:
    """A new folder and its lock, which is held; somebody who clears up may take the lock before that."""
    while True:
        folder = parent / os.urandom(8).hex()
        lock = os.open(f"{folder}{_LOCK}", os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        fcntl.flock(lock, fcntl.LOCK_EX)
        if os.fstat(lock).st_nlink:
            folder.mkdir(mode=0o700)
            return folder, lock
        os.close(lock)


def _clear(parent: Path) -> None:
    """Remove what no process holds any more."""
    for lock_file in parent.glob(f"*{_LOCK}"):
        with suppress(OSError):
            lock = os.open(lock_file, os.O_RDWR)
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                _remove(lock_file.with_suffix(""))
            finally:
                os.close(lock)


def _remove(folder: Path) -> None:
    """Remove a folder, also where something in it was made read-only, and then its lock file."""
    import shutil

    shutil.rmtree(folder, ignore_errors=True)
    if folder.exists():
        for place, _, _ in os.walk(folder):
            with suppress(OSError):
                os.chmod(place, 0o700)  # noqa: PTH101 - as `os.walk` gives it
        shutil.rmtree(folder, ignore_errors=True)
    if not folder.exists():
        Path(f"{folder}{_LOCK}").unlink(missing_ok=True)
