"""Writing to the standard streams, which may be full or closed."""

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from io import TextIOWrapper
from typing import TextIO

from rabbet.errors import CannotWrite

__all__ = ["MutedStream", "flush", "write_line"]


class MutedStream(TextIOWrapper):
    """Standard error, where nothing fails: what nobody can read must not end what a command does."""

    def __init__(self, stream: TextIOWrapper) -> None:
        self._stream = stream  # which would close the descriptor
        buffer = open(stream.fileno(), "wb", closefd=False)  # noqa: SIM115 - a descriptor; it stays open
        super().__init__(buffer, stream.encoding, line_buffering=True)

    def write(self, text: str) -> int:
        """Write, if it can be written."""
        with suppress(OSError):
            return super().write(text)
        return len(text)

    def flush(self) -> None:
        """Flush, if that can be done."""
        with suppress(OSError):
            super().flush()


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
