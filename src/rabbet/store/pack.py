"""A cache of many small contents in one file, a database of SQLite; losing an entry costs time only.

Several processes may write at once: what each writes is one transaction. Each content carries a digest of
itself and its key, which is checked when it is read, as in `blob_cache.py`. A file that is damaged, or of
another form, is removed; where none can be made or written, nothing is remembered.
"""

import os
import stat
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from rabbet.disk.folder import make_folder
from rabbet.store.blob_cache import FORGOTTEN, sealed, unsealed

if TYPE_CHECKING:
    from sqlite3 import Connection

__all__ = ["JOURNAL", "Pack"]

JOURNAL = "-journal"  # the ending of the file beside it that SQLite keeps while it writes
_Answer = TypeVar("_Answer")
_FORM = 1  # 1: first form
_PATIENCE = 10  # seconds that another process may take to write
_MOST_KEPT_BACK = 4_000_000  # bytes that wait to be written
_LONGEST_KEPT_BACK = 0.5  # seconds after which what waits is written with the next entry


class Pack:
    """One file of remembered contents. Its methods may be called from many threads.

    What is remembered is written in a while, or by `flush`.
    """

    def __init__(self, file: Path) -> None:
        self._file = file
        self._guard = threading.RLock()
        self._open: Connection | None = None
        self._new: dict[str, bytes] = {}
        self._forgotten: set[str] = set()
        self._waiting = 0
        self._waiting_since = 0.0
        self._was_removed = False

    def __contains__(self, key: object) -> bool:
        """Whether there is an entry of this key; its digest is not checked."""
        with self._guard:
            return key in self._new or (isinstance(key, str) and self._read(key) is not None)

    def recall(self, key: str) -> bytes | None:
        """The content of this key; `None` when absent or damaged."""
        with self._guard:
            if key in self._new:
                return self._new[key]
            found = self._read(key)
            if found is None:
                return None
            try:
                return unsealed(key, found)
            except ValueError:
                self.forget(key)
                sys.audit(FORGOTTEN, f"{self._file}: {key}")
                return None

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content. A store that can't be written forgets it, which is no error."""
        with self._guard:
            self._waiting_since = self._waiting_since if self._new else time.monotonic()
            self._new[key] = content
            self._forgotten.discard(key)
            self._waiting += len(content)
            late = time.monotonic() - self._waiting_since > _LONGEST_KEPT_BACK
            if late or self._waiting > _MOST_KEPT_BACK:
                self.flush()

    def forget(self, key: str) -> None:
        """Remove an entry."""
        with self._guard:
            self._new.pop(key, None)
            self._forgotten.add(key)

    def __iter__(self) -> Iterator[str]:
        """The keys of all entries, sorted."""
        with self._guard:
            stored = {str(key) for (key,) in self._asked("SELECT key FROM entries")}
            return iter(sorted((stored - self._forgotten) | self._new.keys()))

    def flush(self) -> None:
        """Write what is new."""
        with self._guard:
            if self._new or self._forgotten:
                self._write()
            self._waiting = 0
            self._new.clear()  # what can't be written now will not be either in a while
            self._forgotten.clear()

    def close(self) -> None:
        """Write what is new, and close the file; the next question opens it again."""
        with self._guard:
            self.flush()
            if self._open is not None:
                self._open.close()
            self._open = None

    def is_whole(self) -> bool:
        """Whether all of the file can be read, if there is one; one that can't is removed."""
        with self._guard:
            told = self._asked("PRAGMA integrity_check")
            if told and told != [("ok",)]:
                self._remove("its pages do not fit together")
            return not self._was_removed

    def _read(self, key: str) -> bytes | None:
        """A content as it is stored."""
        if key in self._forgotten:
            return None
        rows = self._asked("SELECT content FROM entries WHERE key = ?", key)
        return next((content for (content,) in rows if isinstance(content, bytes)), None)

    def _asked(self, question: str, *values: str) -> list[tuple[object, ...]]:
        """The rows of an answer; none where there is no file, or one that is damaged."""
        return self._done(lambda file: file.execute(question, values).fetchall(), make=False) or []

    def _write(self) -> None:
        """Write what is new in one transaction, as far as that is possible."""
        gone = [(key,) for key in self._forgotten]
        new = [(key, sealed(key, content)) for key, content in self._new.items()]

        def write(file: "Connection") -> None:
            with file:
                file.execute("BEGIN IMMEDIATE")
                file.executemany("DELETE FROM entries WHERE key = ?", gone)
                file.executemany("INSERT OR REPLACE INTO entries VALUES (?, ?)", new)

        self._done(write, make=bool(new))

    def _done(self, action: "Callable[[Connection], _Answer]", *, make: bool) -> "_Answer | None":
        """The result of an action on the file; `None` when it is absent or damaged.

        Without a file, one is made if need be. What is wrong is no error: it may not be written, the disk is
        full, another process takes too long, or it is damaged.
        """
        try:
            from sqlite3 import SQLITE_ERROR, DatabaseError, OperationalError  # here: many need none
        except ImportError:  # some builds of Python have no SQLite
            return None
        try:
            file = self._opened(make=make)
            return action(file) if file is not None else None
        except (OSError, DatabaseError) as error:
            passing = isinstance(error, OSError | OperationalError)
            if not passing or getattr(error, "sqlite_errorcode", 0) == SQLITE_ERROR:  # it has no such table
                self._remove(str(error))
            return None

    def _opened(self, *, make: bool) -> "Connection | None":
        """The file, opened once. Raises `OSError` and the errors of SQLite."""
        if self._open is None and self._is_there(make=make):
            from sqlite3 import connect

            self._open = connect(self._file, timeout=_PATIENCE, isolation_level=None, check_same_thread=False)
            self._open.execute("PRAGMA synchronous = OFF")  # what a crash of the system damages is noticed
            if _form(self._open) != _FORM:
                _prepare(self._open)
        return self._open

    def _is_there(self, *, make: bool) -> bool:
        """Whether there is a regular file, which is made if need be. Raises `OSError`."""
        try:
            return stat.S_ISREG(self._file.lstat().st_mode)
        except FileNotFoundError:
            if not make:
                return False
        make_folder(self._file.parent)
        with suppress(FileExistsError):
            os.close(os.open(self._file, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
        return True

    def _remove(self, why: str) -> None:
        """Remove a damaged file."""
        sys.audit(FORGOTTEN, f"{self._file}: {why}")
        if self._open is not None:
            self._open.close()
        self._open, self._was_removed = None, True
        for file in (self._file, Path(f"{self._file}{JOURNAL}")):
            with suppress(OSError):
                file.unlink()


def _form(connection: "Connection") -> int:
    """The number of the form that a file has; 0 for an empty one."""
    return int(connection.execute("PRAGMA user_version").fetchone()[0])


def _prepare(connection: "Connection") -> None:
    """Give an empty file its table. Raises `DatabaseError` for one of another form."""
    from sqlite3 import DatabaseError

    with connection:
        connection.execute("BEGIN IMMEDIATE")
        form = _form(connection)  # another process may have done it meanwhile
        if form not in (0, _FORM):
            raise DatabaseError(f"its form is {form}")
        connection.execute("CREATE TABLE IF NOT EXISTS entries (key TEXT PRIMARY KEY, content BLOB)")
        connection.execute(f"PRAGMA user_version = {_FORM}")
