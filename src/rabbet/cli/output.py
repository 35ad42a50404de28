"""Writing to standard output, which may be full or closed."""

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TextIO

from rabbet.errors import CannotWrite

__all__ = ["flush", "write_line"]


def write_line(stream: TextIO, text: str) -> None:
    """Write a line. Raises `CannotWrite` on a full disk or device, `BrokenPipeError` where nobody reads."""
    with _told():
        print(text, file=stream)


def flush(stream: TextIO) -> None:
    """Flush the stream. Raises as `write_line` does."""
    with _told():
        stream.flush()


@contextmanager
def _told() -> Iterator[None]:
    try:
        yield
    except BrokenPipeError:
        raise
    except OSError as error:
        raise CannotWrite(
            "standard output can't be written", because=[error.strerror or str(error)]
        ) from error
