"""Files of this machine: where an address leads, and their content piece by piece."""

from collections.abc import Iterator
from io import BufferedReader
from pathlib import Path

from rabbet.disk.regular_file import open_regular
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import parse_address

__all__ = ["local_path", "open_file", "read_pieces"]

_CHUNK = 1 << 18


def local_path(address: str) -> Path | None:
    """The path behind a `file:` address; `None` for any other."""
    if not address.startswith("file:"):
        return None
    from urllib.request import url2pathname

    return Path(url2pathname(parse_address(address).path))


def read_pieces(path: Path) -> Iterator[bytes]:
    """The content of a file that the declaration or the lock names. Raises `SourceFailed`."""
    with open_file(path) as file:
        try:
            while piece := file.read(_CHUNK):
                yield piece
        except OSError as error:
            raise _unreadable(path, error) from error


def open_file(path: Path) -> BufferedReader:
    """Open such a file. Raises `SourceFailed`, also where it is no regular file."""
    try:
        return open_regular(path)
    except OSError as error:
        raise _unreadable(path, error) from error


def _unreadable(path: Path, error: OSError) -> SourceFailed:
    return SourceFailed(
        f"{path.name} can't be read",
        because=[f"{path}: {error.strerror}", "bring the file back, or let another release take its place"],
        remedy="rabbet resolve --fresh-listings",
    )
