"""A cache of many small contents in one file, which is read by need; losing an entry costs time only.

The file is a row of records; a later one with the same key stands in for an earlier one, which comes back
where the later one is damaged, so what is kept here has to be harmless when it is old. New records are
appended; where most of the file is of no use any more, or its end is damaged, it is rewritten. Whoever writes
holds the file's lock, so several processes can do so at once; who only reads takes the lock where a file
seems to be cut off, which may be another process's record that is being written. Each record carries a
digest of its key and its content, which is checked when it is read, as in `blob_cache.py`.
"""

import fcntl
import os
import struct
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from io import BufferedReader
from pathlib import Path
from typing import NamedTuple

from rabbet.disk.regular_file import open_regular
from rabbet.store.blob_cache import FORGOTTEN, sealed, unsealed, write_at_once
from rabbet.store.folder import make_folder

__all__ = ["Pack"]

_HEAD = struct.Struct("<4sHI")  # a mark, the lengths of the key and of the sealed content
_LONGEST_KEY = 200
_LONGEST_HEAD = _HEAD.size + _LONGEST_KEY
_WINDOW = 1 << 14  # bytes that are read at once while records are looked for
_MARK = b"rbp1"  # 1: first form
_MOST_KEPT_BACK = 4_000_000  # bytes that wait to be written
_LONGEST_KEPT_BACK = 0.5  # seconds after which what waits is written with the next entry
_MOST_WASTE = 1_000_000  # bytes of no use, beyond which the file is rewritten where they are most of it


class Pack:
    """One file of remembered contents. Its methods may be called from many threads.

    What is remembered is written in a while, or by `flush`.
    """

    def __init__(self, file: Path) -> None:
        self._file = str(file)
        self._guard = threading.RLock()
        self._index: _Index | None = None
        self._new: dict[str, bytes] = {}
        self._forgotten: set[str] = set()
        self._waiting = 0
        self._waiting_since = 0.0

    def __contains__(self, key: object) -> bool:
        """Whether there is an entry of this key; its digest is not checked."""
        with self._guard:
            return key in self._new or key in self._read().places

    def recall(self, key: str) -> bytes | None:
        """The content of this key; `None` when absent or damaged."""
        with self._guard:
            if key in self._new:
                return self._new[key]
            index = self._read()
            if key not in index.places:
                return None
            try:
                return unsealed(key, index.sealed(key))
            except (OSError, ValueError):
                self.forget(key)
                sys.audit(FORGOTTEN, f"{self._file}: {key}")
                return None

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content. A store that can't be written forgets it, which is no error."""
        with self._guard:
            self._waiting_since = self._waiting_since if self._new else time.monotonic()
            self._new[key] = content
            self._waiting += len(content)
            late = time.monotonic() - self._waiting_since > _LONGEST_KEPT_BACK
            if late or self._waiting > _MOST_KEPT_BACK:
                self.flush()

    def forget(self, key: str) -> None:
        """Remove an entry."""
        with self._guard:
            self._new.pop(key, None)
            if self._read().places.pop(key, None) is not None:
                self._forgotten.add(key)

    def __iter__(self) -> Iterator[str]:
        """The keys of all entries, sorted."""
        with self._guard:
            return iter(sorted({*self._read().places, *self._new}))

    @property
    def cut_off(self) -> bool:
        """Whether the file does not end where a record does; the next `flush` rewrites it."""
        with self._guard:
            return self._read().cut_off

    def flush(self) -> None:
        """Write what is new."""
        with self._guard, suppress(OSError):
            untidy = self._index is not None and self._index.untidy
            if not (self._new or self._forgotten or untidy):
                return
            try:
                self._write()
            except FileNotFoundError:
                make_folder(Path(self._file).parent)
                self._write()
            finally:
                self._waiting = 0
                self._new.clear()  # what can't be written now will not be either in a while
                self._forgotten.clear()
                self._close_file()

    def close(self) -> None:
        """Write what is new, and close the file; the next question opens it again."""
        with self._guard:
            self.flush()
            self._close_file()

    def _close_file(self) -> None:
        if self._index is not None:
            self._index.close()
        self._index = None

    def _read(self) -> "_Index":
        """Where each entry lies, found out once."""
        if self._index is None:
            self._index = _read(self._file)
            if self._index.cut_off:
                self._index.close()
                with suppress(OSError), _locked(self._file, os.O_RDONLY, fcntl.LOCK_SH):
                    self._index = _read(self._file)
            if self._index.cut_off:
                sys.audit(FORGOTTEN, self._file)
        return self._index

    def _write(self) -> None:
        """Append what is new, or rewrite the file. Raises `OSError`."""
        flags = os.O_RDWR | os.O_CREAT | os.O_APPEND
        with _locked(self._file, flags, fcntl.LOCK_EX) as descriptor:
            if self._index is None or not self._index.is_of(descriptor):
                self._close_file()
                self._index = _read(self._file)
            index = self._index
            new = {key: sealed(key, content) for key, content in self._new.items()}
            if not (self._forgotten or index.untidy):
                _append(descriptor, b"".join(_record(*item) for item in new.items()))
                return
            kept = {key: index.sealed(key) for key in index.places if key not in self._forgotten}
            temporary = f"{self._file}.{os.getpid()}.{threading.get_ident()}"
            write_at_once(temporary, b"".join(_record(*item) for item in (kept | new).items()))
            os.replace(temporary, self._file)  # noqa: PTH105 - pathlib is slower


class _Index(NamedTuple):
    """A file, and the position and length of each entry's sealed content in it. `end`: of the last record."""

    source: BufferedReader | None
    size: int
    places: dict[str, tuple[int, int]]
    end: int

    @property
    def cut_off(self) -> bool:
        return self.end != self.size

    @property
    def untidy(self) -> bool:
        """Whether the file should be rewritten."""
        used = sum(length for _, length in self.places.values())
        return self.cut_off or (self.size > 2 * used and self.size - used > _MOST_WASTE)

    def is_of(self, descriptor: int) -> bool:
        """Whether this is the file that a descriptor refers to, in its present length."""
        there = os.fstat(descriptor)
        return (
            self.source is not None
            and os.path.samestat(os.fstat(self.source.fileno()), there)
            and self.size == there.st_size
        )

    def sealed(self, key: str) -> bytes:
        """An entry as it lies in the file. Raises `OSError`."""
        return _part(self.source, *self.places[key])

    def close(self) -> None:
        if self.source is not None:
            self.source.close()


def _read(file: str) -> _Index:
    """Look for the records of a file; what does not look like one ends it. An absent file is empty."""
    places: dict[str, tuple[int, int]] = {}
    try:
        source = open_regular(file)
    except OSError:
        return _Index(None, 0, places, 0)
    size = os.fstat(source.fileno()).st_size
    position, window, begun = 0, b"", 0
    with suppress(OSError, struct.error):  # a file that can't be read, or that was cut short meanwhile
        while position + _HEAD.size <= size:
            if position + _LONGEST_HEAD > begun + len(window):
                window, begun = _part(source, position, _WINDOW), position
            mark, name, length = _HEAD.unpack_from(window, position - begun)
            start = position + _HEAD.size + name
            if mark != _MARK or name > _LONGEST_KEY or start + length > size:
                break
            key = window[start - name - begun : start - begun].decode("latin-1")  # a damaged one is nobody's
            places[key] = (start, length)
            position = start + length
    return _Index(source, size, places, position)


def _part(source: BufferedReader | None, start: int, length: int) -> bytes:
    return os.pread(source.fileno(), length, start) if source is not None else b""


@contextmanager
def _locked(file: str, flags: int, lock: int) -> Iterator[int]:
    """Open a file and hold its lock; where another process rewrote it meanwhile, that of the new one.

    Raises `OSError`.
    """
    while True:
        descriptor = os.open(file, flags | os.O_CLOEXEC | os.O_NOFOLLOW | os.O_NONBLOCK, 0o600)
        try:
            fcntl.flock(descriptor, lock)
            with suppress(FileNotFoundError):
                if os.path.samestat(os.fstat(descriptor), os.lstat(file)):
                    yield descriptor
                    return
        finally:
            os.close(descriptor)


def _append(descriptor: int, added: bytes) -> None:
    """Write to the end of a file, whose lock is held; where not all of it fits, nothing. Raises `OSError`."""
    size, written = os.fstat(descriptor).st_size, 0
    try:
        written = os.write(descriptor, added)
    finally:
        if written < len(added):
            os.ftruncate(descriptor, size)


def _record(key: str, content: bytes) -> bytes:
    name = key.encode("latin-1")
    return _HEAD.pack(_MARK, len(name), len(content)) + name + content
