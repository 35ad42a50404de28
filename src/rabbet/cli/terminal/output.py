"""Writing to the standard streams, which may be full or closed."""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from io import TextIOWrapper
from typing import TextIO

from rabbet.errors import CannotWrite

__all__ = ["MutedStream", "flush", "in_ascii", "only_ascii", "write_line"]

# What stands for the signs of Rabbet's own sentences and tables where only ASCII is wanted.
_IN_ASCII = str.maketrans({"…": "...", "→": "->", "⇄": "<->", "×": "x"})


def only_ascii(stream: TextIO, environ: Mapping[str, str]) -> bool:
    """Whether the C locale was chosen, or the stream's encoding has no other signs.

    POSIX.1-2024, 8.2: `LC_ALL` goes before `LC_CTYPE`, and that before `LANG`.
    """
    chosen = environ.get("LC_ALL") or environ.get("LC_CTYPE") or environ.get("LANG")
    return chosen in ("C", "POSIX") or (stream.encoding or "").lower() in ("ascii", "us-ascii")


def in_ascii(text: str) -> str:
    """A text with its arrows and ellipses in ASCII; what else it holds, such as names of others, stays."""
    return text.translate(_IN_ASCII)


class MutedStream(TextIOWrapper):
    """Standard error, where nothing fails: what nobody can read must not end what a command does."""

    def __init__(self, stream: TextIOWrapper, *, ascii_only: bool = False) -> None:
        self._ascii_only = ascii_only
        self._stream = stream  # which would close the descriptor
        buffer = open(stream.fileno(), "wb", closefd=False)  # noqa: SIM115 - a descriptor; it stays open
        super().__init__(buffer, stream.encoding, line_buffering=True)

    def write(self, text: str) -> int:
        """Write, if it can be written."""
        with suppress(OSError):
            return super().write(in_ascii(text) if self._ascii_only else text)
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
