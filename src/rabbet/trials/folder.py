"""Folders of trials: each is there for one command and what that starts, and gone afterwards."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rabbet.store.atomic import cannot_write
from rabbet.store.folder import make_folder

__all__ = ["trial_folder"]

_LOCK = ".lock"


@contextmanager
def trial_folder(store: Path) -> Iterator[Path]:
    """An empty folder in the store, which is removed in the end.

    Programs that are started inherit a lock on it: while one of them runs, nobody else removes it. What a
    killed trial left goes with the next one. Raises `CannotWrite`.
    """
    trials = store / "trials"
    with cannot_write(store):
        make_folder(trials)
        _clear(trials)
        folder = trials / os.urandom(8).hex()
        lock = os.open(f"{folder}{_LOCK}", os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600)
        fcntl.flock(lock, fcntl.LOCK_EX)
        os.set_inheritable(lock, True)  # noqa: FBT003 - positional only
        folder.mkdir(mode=0o700)
    try:
        yield folder
    finally:
        _remove(folder)
        os.close(lock)


def _clear(trials: Path) -> None:
    """Remove what trials left that no process belongs to any more."""
    for lock_file in trials.glob(f"*{_LOCK}"):
        with suppress(OSError):
            lock = os.open(lock_file, os.O_RDWR)
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                _remove(lock_file.with_suffix(""))
            finally:
                os.close(lock)


def _remove(folder: Path) -> None:
    import shutil

    shutil.rmtree(folder, ignore_errors=True)
    Path(f"{folder}{_LOCK}").unlink(missing_ok=True)
