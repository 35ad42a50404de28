"""Archives: the endings of their names, places inside them, and a bound of what is unpacked."""

import io
import posixpath
from typing import Protocol

from rabbet.core.limits import LONGEST_LINE

__all__ = ["ARCHIVE_ENDINGS", "CappedStream", "is_inside"]

ARCHIVE_ENDINGS = (".tar.gz", ".tgz", ".tar.xz", ".tar.zst", ".zip", ".whl")  # of what can be unpacked


class _Readable(Protocol):
    """Gives at most so many bytes; none at its end."""

    def read(self, size: int = -1, /) -> bytes:
        """Read on."""


class CappedStream(io.RawIOBase):
    """What is unpacked of an archive, as a stream that raises `OSError` beyond a number of bytes."""

    def __init__(self, inner: _Readable, most: int) -> None:
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
