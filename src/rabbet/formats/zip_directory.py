"""A zip archive's table of contents: its size, before the library reads the whole of it (APPNOTE 4.3.16)."""

import io
from typing import IO

from rabbet.core.limits import MOST_DIRECTORY

__all__ = ["check_directory"]

_END, _END_64 = b"PK\x05\x06", b"PK\x06\x06"
_TAIL = (
    1 << 15
)  # bytes: the end record, and those of large archives; no archive of a library has a long comment
_LARGE = 0xFFFF_FFFF  # the size stands in the record of large archives


def check_directory(file: IO[bytes]) -> None:
    """Raise `ValueError` for what is no archive, and for a table of contents that would fill the memory.

    Leaves the file where it was.
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
