"""A cache of many small contents in one file, which is read by need; losing an entry costs time only.

The file is a row of records; a later one with the same key stands in for an earlier one, which comes back
where the later one is damaged, so what is kept here has to be harmless when it is old. What is new is
appended by one call of the system, so that several processes can do so at once; where much of the file is of
no use any more, or its end was cut off, it is written anew. Each record carries a digest of its key and its
content, which is checked when it is read, as in `blob_cache.py`.
"""

import os
import struct
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from io import BufferedReader
from pathlib import Path

from rabbet.regular_file import open_regular
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
_MOST_WASTE = 1_000_000  # bytes of no use, beyond which the file is written anew where they are most of it


class Pack:
    """One file of remembered contents. Its methods may be called from many threads.

    What is remembered is written in a while, or by `flush`.
    """

    def __init__(self, file: Path) -> None:
        self._file = str(file)
        self._guard = threading.RLock()
        self._read = False
        self._source: BufferedReader | None = None
        self._places: dict[str, tuple[int, int]] = {}
        self._new: dict[str, bytes] = {}
        self._waiting = 0
        self._waiting_since = 0.0
        self._cut_off = False  # whether the file ends with what is no record
        self._untidy = False  # whether it has to be written anew

    def __contains__(self, key: object) -> bool:
        """Whether something is remembered under this key, without looking whether it is as it was."""
        with self._guard:
            self._open()
            return key in self._new or key in self._places

    def recall(self, key: str) -> bytes | None:
        """What was remembered under this key, if anything, and if it is what it was."""
        with self._guard:
            self._open()
            if key in self._new:
                return self._new[key]
            if key not in self._places:
                return None
            try:
                return unsealed(key, self._sealed(key))
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
            self._open()
            self._new.pop(key, None)
            if self._places.pop(key, None) is not None:
                self._untidy = True

    def __iter__(self) -> Iterator[str]:
        """All keys that something is remembered under, sorted."""
        with self._guard:
            self._open()
            return iter(sorted({*self._places, *self._new}))

    @property
    def cut_off(self) -> bool:
        """Whether the file does not end where a record does; the next `flush` writes it anew."""
        with self._guard:
            self._open()
            return self._cut_off

    def flush(self) -> None:
        """Write what is new."""
        with self._guard, suppress(OSError):
            if not (self._new or self._untidy):
                return
            self._open()
            try:
                self._write()
            except FileNotFoundError:
                make_folder(Path(self._file).parent)
                self._write()
            finally:
                self._waiting, self._untidy = 0, False
                self._new.clear()  # what can't be written now will not be either in a while
                self._forget_places()

    def close(self) -> None:
        """Write what is new, and close the file; the next question opens it again."""
        with self._guard:
            self.flush()
            self._forget_places()

    def _forget_places(self) -> None:
        if self._source is not None:
            self._source.close()
        self._read, self._source, self._places = False, None, {}

    def _open(self) -> None:
        """Find out where everything lies; what does not look as it should ends the file."""
        if self._read:
            return
        self._read = True
        try:
            self._source = open_regular(self._file)
            size = os.fstat(self._source.fileno()).st_size
            position = self._find_records(size)
        except OSError:
            return
        used = sum(length for _, length in self._places.values())
        self._cut_off = position != size
        self._untidy = self._cut_off or (size > 2 * used and size - used > _MOST_WASTE)
        if self._cut_off:
            sys.audit(FORGOTTEN, self._file)

    def _find_records(self, size: int) -> int:
        """Note where each record's content lies; where the last one ends."""
        position, window, begun = 0, b"", 0
        while position + _HEAD.size <= size:
            if position + _LONGEST_HEAD > begun + len(window):
                window, begun = self._part(position, _WINDOW), position
            mark, name, length = _HEAD.unpack_from(window, position - begun)
            start = position + _HEAD.size + name
            if mark != _MARK or name > _LONGEST_KEY or start + length > size:
                break
            key = window[start - name - begun : start - begun].decode("latin-1")  # a damaged one is nobody's
            self._places[key] = (start, length)
            position = start + length
        return position

    def _sealed(self, key: str) -> bytes:
        return self._part(*self._places[key])

    def _part(self, start: int, length: int) -> bytes:
        return os.pread(self._source.fileno(), length, start) if self._source is not None else b""

    def _write(self) -> None:
        if self._untidy:
            whole = {key: self._sealed(key) for key in self._places}
            whole.update((key, sealed(key, content)) for key, content in self._new.items())
            temporary = f"{self._file}.{os.getpid()}.{threading.get_ident()}"
            write_at_once(temporary, b"".join(_record(*one) for one in whole.items()))
            os.replace(temporary, self._file)  # noqa: PTH105 - pathlib is slower
            return
        added = b"".join(_record(key, sealed(key, content)) for key, content in self._new.items())
        descriptor = os.open(self._file, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
        try:
            os.write(descriptor, added)  # where not all of it fits, the next who reads finds its end cut off
        finally:
            os.close(descriptor)


def _record(key: str, content: bytes) -> bytes:
    name = key.encode("latin-1")
    return _HEAD.pack(_MARK, len(name), len(content)) + name + content
