"""Text files: in UTF-8, within bounds."""

from pathlib import Path

from rabbet.core.limits import MOST_BY_HAND, MOST_TEXT_FILE
from rabbet.disk.regular_file import read_regular
from rabbet.errors import NotUnderstood

__all__ = ["read_text"]


def read_text(path: Path, *, by_hand: bool = False) -> str:
    """A text file, perhaps one that people write `by_hand`.

    Raises `NotUnderstood` when it can't be read as one.
    """
    try:
        return (
            read_regular(path, most=MOST_BY_HAND if by_hand else MOST_TEXT_FILE)
            .decode("utf-8")
            .replace("\r\n", "\n")
        )
    except UnicodeDecodeError as error:
        raise NotUnderstood(f"{path.name} is not UTF-8 text", because=[str(error)]) from error
    except OSError as error:
        raise NotUnderstood(f"{path.name} can't be read", because=[error.strerror or str(error)]) from error
