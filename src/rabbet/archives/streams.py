"""The content of packed streams (gzip, xz, zstd), within a number of bytes and read ahead."""

import gzip
import io
import lzma
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from queue import Empty, Queue
from typing import IO, Protocol

from rabbet.archives.places import ARCHIVE_ENDINGS

__all__ = ["BLOCK", "CappedStream", "unpacked"]

BLOCK = 1 << 16  # bytes that are unpacked at once
_AHEAD, _PAUSE = 64, 0.01  # blocks that are read ahead; seconds


class _Readable(Protocol):
    """Gives at most so many bytes; none at its end."""

    def read(self, size: int = -1, /) -> bytes:
        """Read on."""


class CappedStream(io.RawIOBase):
    """An archive's unpacked bytes, as a stream that raises `OSError` beyond a number of them."""

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


@contextmanager
def unpacked(file: IO[bytes], name: str, most: int) -> Iterator[IO[bytes]]:
    """The stream inside a packed one."""
    if name.endswith((".tar.gz", ".tgz")):
        with (
            gzip.GzipFile(fileobj=file, mode="rb") as packed,
            _ReadAhead(CappedStream(packed, most)) as stream,
        ):
            yield stream  # type: ignore[misc]
    elif name.endswith(".tar.xz"):
        with lzma.LZMAFile(file, mode="rb") as dense, _ReadAhead(CappedStream(dense, most)) as stream:
            yield stream  # type: ignore[misc]
    elif name.endswith(".tar.zst"):
        from zstandard import ZstdDecompressor, ZstdError  # here: few archives are packed so

        try:
            with (
                ZstdDecompressor().stream_reader(file) as small,
                _ReadAhead(CappedStream(small, most)) as stream,
            ):
                yield stream  # type: ignore[misc]
        except ZstdError as error:
            raise ValueError(str(error)) from error
    else:
        raise ValueError(f"its name ends with none of {', '.join(ARCHIVE_ENDINGS)}")


class _ReadAhead(io.RawIOBase):
    """A stream that is read ahead by a thread, so that one core unpacks while another one writes files."""

    def __init__(self, inner: io.RawIOBase) -> None:
        super().__init__()
        self._pieces: Queue[bytes | BaseException] = Queue(_AHEAD)
        self._rest = b""
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._run, args=(inner,), daemon=True)
        self._thread.start()

    def read(self, size: int = -1) -> bytes:
        """Read on, up to so many bytes. Raises what reading raised."""
        if not self._rest:
            piece = b"" if self._ended.is_set() else self._pieces.get()
            if isinstance(piece, BaseException):
                self._ended.set()
                raise piece
            if not piece:
                self._ended.set()
            self._rest = piece
        end = len(self._rest) if size < 0 else size
        given, self._rest = self._rest[:end], self._rest[end:]
        return given

    def close(self) -> None:
        """Stop reading ahead."""
        self._ended.set()
        while self._thread.is_alive():
            with suppress(Empty):
                self._pieces.get(timeout=_PAUSE)
        super().close()

    def _run(self, inner: io.RawIOBase) -> None:
        piece: bytes | BaseException = b"more"
        while isinstance(piece, bytes) and piece and not self._ended.is_set():
            try:
                piece = inner.read(BLOCK) or b""
            except BaseException as error:  # noqa: BLE001 - raised again for the reader
                piece = error
            self._pieces.put(piece)
