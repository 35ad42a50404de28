"""Files of this machine: where an address leads, and their content piece by piece."""

from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

from rabbet.errors import SourceFailed

__all__ = ["local_path", "read_pieces"]

_CHUNK = 1 << 18


def local_path(address: str) -> Path | None:
    """The path behind a `file:` address; `None` for any other."""
    parts = urlsplit(address)
    if parts.scheme != "file":
        return None
    from urllib.request import url2pathname

    return Path(url2pathname(parts.path))


def read_pieces(path: Path) -> Iterator[bytes]:
    """The content of a file that the declaration or the lock names. Raises `SourceFailed`."""
    try:
        with path.open("rb") as file:
            while piece := file.read(_CHUNK):
                yield piece
    except OSError as error:
        raise SourceFailed(
            f"{path.name} can't be read",
            because=[f"{path}: {error.strerror}"],
            remedy="bring the file back, or resolve anew: rabbet resolve --raise-all",
        ) from error
