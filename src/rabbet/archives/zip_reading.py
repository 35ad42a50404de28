"""Zip archives, wheels among them, before the standard library reads them, and what it raises for them."""

import io
import lzma
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import IO

from rabbet.core.limits import MOST_DIRECTORY

__all__ = ["BROKEN_ZIP", "opened_zip"]

# What the standard library raises for archives that are damaged, or made to be.
BROKEN_ZIP = (
    zipfile.BadZipFile,
    lzma.LZMAError,
    struct.error,
    zlib.error,
    EOFError,
    LookupError,
    MemoryError,
    NotImplementedError,
    OverflowError,
    RuntimeError,
    ValueError,
)
_END, _END_64 = b"PK\x05\x06", b"PK\x06\x06"
# Bytes: the end record, and those of large archives; no archive of a library has a long comment.
_TAIL = 1 << 15
_LARGE = 0xFFFF_FFFF  # the size stands in the record of large archives


@contextmanager
def opened_zip(file: IO[bytes]) -> Iterator[zipfile.ZipFile]:
    """A zip archive whose table of contents is of a size that can be read. Raises what is in `BROKEN_ZIP`."""
    _check_directory(file)
    with zipfile.ZipFile(file) as archive:
        yield archive


def _check_directory(file: IO[bytes]) -> None:
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
