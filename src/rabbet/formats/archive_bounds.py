"""Bounds of archives, which hold before a library for archives reads them into the memory."""

import io
import posixpath
from typing import IO

from rabbet.core.limits import LONGEST_LINE, MOST_DIRECTORY

__all__ = ["ARCHIVE_ENDINGS", "CappedStream", "check_directory", "is_inside"]

ARCHIVE_ENDINGS = (".tar.gz", ".tgz", ".tar.xz", ".zip", ".whl")  # of what can be unpacked

_END, _END_64 = b"PK\x05\x06", b"PK\x06\x06"
_TAIL = (
    1 << 15
)  # bytes: the end record, and those of large archives; no archive of a library has a long comment
_LARGE = 0xFFFF_FFFF  # the size stands in the record of large archives


def check_directory(file: IO[bytes]) -> None:
    """Check the size of a zip archive's table of contents (APPNOTE 4.3.16) before it is read as a whole.

    Raises `ValueError` for what is no archive, and for a table that would fill the memory. Leaves the file
    where it was.
    """
    position = file.tell()
    end = file.seek(0, io.SEEK_END)
    file.seek(max(0, end - _TAIL))
    tail = file.read(_TAIL)
    file.seek(position)
    found = tail.rfind(_END)
    if found < 0:
        raise ValueError("it has no table of contents")
    size = int.from_bytes(tail[found + 12 : found + 16], "little")
    if size == _LARGE and (large := tail.rfind(_END_64)) >= 0:
        size = int.from_bytes(tail[large + 40 : large + 48], "little")
    if size > MOST_DIRECTORY:
        raise ValueError(f"its table of contents has {size} bytes, more than any should")


class CappedStream(io.RawIOBase):
    """What is unpacked of an archive, as a stream that raises `OSError` beyond a number of bytes."""

    def __init__(self, inner: io.BufferedIOBase, most: int) -> None:
        super().__init__()
        self._inner = inner
        self._left = most

    def read(self, size: int = -1) -> bytes:
        """Read on."""
        content = self._inner.read(size)
        self._left -= len(content)
        if self._left < 0:
            raise OSError("it unpacks to more than any archive should")
        return content


def is_inside(place: str) -> bool:
    """Whether a place is a file's inside an archive."""
    return (
        bool(place)
        and place.isprintable()
        and len(place) <= LONGEST_LINE
        and not place.startswith(("/", "../"))
        and posixpath.normpath(place) == place
    )
