"""Core metadata out of a wheel or a source archive: a file, or a remote one by its byte ranges."""

import io
from collections.abc import Callable
from contextlib import suppress
from typing import IO

from rabbet.archives.streams import CappedStream
from rabbet.archives.zip_reading import BROKEN_ZIP, opened_zip
from rabbet.core.limits import MOST_METADATA
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import parse_address
from rabbet.net.http.client import HttpClient
from rabbet.net.http.failures import refused
from rabbet.net.http.headers import announced_size, most_of
from rabbet.python.formats.metadata import MetadataBroken

__all__ = ["RangedFile", "RemoteWheels", "larger_than", "metadata_in", "sdist_metadata_in"]

_TAIL = 1 << 15
_IN_MEMORY = 8_000_000  # bytes of a file; a larger one is put on the disk meanwhile
_IDENTITY = {"Accept-Encoding": "identity"}
_MOST_UNPACKED = 1_000_000_000  # bytes of a source archive, unpacked as far as its metadata


def larger_than(most: int) -> MetadataBroken:
    """The error for a file that is larger than its source says."""
    return MetadataBroken(f"more than {most} bytes of it came, which is all that it may have")


def metadata_in(file: IO[bytes]) -> bytes:
    """Read `METADATA` from an open wheel. Raises `MetadataBroken`."""
    return _from_zip(file, ".dist-info/METADATA")


def sdist_metadata_in(file: IO[bytes], filename: str, *, most: int = _MOST_UNPACKED) -> bytes:
    """Read `PKG-INFO` from an open source archive, of which at `most` so many bytes are unpacked.

    Raises `MetadataBroken`.
    """
    if filename.endswith(".zip"):
        return _from_zip(file, "/PKG-INFO")
    import gzip
    import tarfile

    try:
        unpacked = CappedStream(gzip.GzipFile(fileobj=file, mode="rb"), most)
        with tarfile.open(fileobj=unpacked, mode="r|") as archive:
            for member in archive:
                if member.name.count("/") == 1 and member.name.endswith("/PKG-INFO") and member.isreg():
                    content = archive.extractfile(member)
                    return content.read(MOST_METADATA) if content else b""
    except (tarfile.TarError, OSError, *BROKEN_ZIP) as error:
        raise MetadataBroken(f"it is not a readable archive: {error}") from error
    raise MetadataBroken("it holds no PKG-INFO")


def _from_zip(file: IO[bytes], ending: str) -> bytes:
    """The one file with this ending in a folder at the top."""
    try:
        with opened_zip(file) as archive:
            names = [name for name in archive.namelist() if name.count("/") == 1 and name.endswith(ending)]
            size = archive.getinfo(names[0]).file_size if names else 0
            content = archive.open(names[0]).read(MOST_METADATA) if len(names) == 1 else b""
    except (OSError, *BROKEN_ZIP) as error:
        raise MetadataBroken(f"it is not a readable archive: {error}") from error
    if len(names) != 1:
        raise MetadataBroken(f"it holds {len(names)} files named {ending} in place of one")
    if size > MOST_METADATA:
        raise MetadataBroken(f"its {names[0]} is larger than any metadata should be")
    return content


class RemoteWheels:
    """Wheels on a server, read by ranges from their ends, or where none are offered from the whole of them.

    Hosts are remembered that offered ranges once: there the size that a listing tells saves a question.
    """

    def __init__(self, client: HttpClient) -> None:
        self._client = client
        self._ranging: set[str] = set()

    def metadata(self, address: str, size: int | None) -> bytes:
        """Read `METADATA` of a wheel, whose size may be known. Raises `SourceFailed`, `MetadataBroken`."""
        host = parse_address(address).origin
        if size is not None and host in self._ranging:
            with suppress(SourceFailed, MetadataBroken):  # the size may be wrong: ask for it
                return self._by_ranges(address, size)
        head = self._client.get(address, _IDENTITY, method="HEAD")
        if head.status != 200 or head.headers.get("accept-ranges") != "bytes":
            told = announced_size(head.headers) if head.status == 200 else None
            return self._from_whole(address, most_of(told if size is None else size))
        self._ranging.add(host)
        return self._by_ranges(address, announced_size(head.headers) or 0)

    def _from_whole(self, address: str, most: int) -> bytes:
        """Read it from the whole wheel, which is put on the disk meanwhile if it is large."""
        import tempfile

        with tempfile.SpooledTemporaryFile(_IN_MEMORY) as whole:
            for piece in self._client.stream(address):
                whole.write(piece)
                if whole.tell() > most:
                    raise larger_than(most)
            whole.seek(0)
            return metadata_in(whole)

    def _by_ranges(self, address: str, size: int) -> bytes:
        def fetch(start: int, end: int) -> bytes:
            answer = self._client.get(address, {**_IDENTITY, "Range": f"bytes={start}-{end - 1}"})
            if answer.status == 206:
                return answer.body
            if answer.status == 200:
                return answer.body[start:end]
            raise refused(address, answer.status)

        return metadata_in(io.BufferedReader(RangedFile(size, fetch)))


class RangedFile(io.RawIOBase):
    """A file of known size that is read through a function `(start, end) -> bytes`, its end read once.

    The end of an archive holds its table of contents, and of a wheel usually its metadata too.
    """

    def __init__(self, size: int, fetch: Callable[[int, int], bytes]) -> None:
        super().__init__()
        self._size = size
        self._fetch = fetch
        self._position = 0
        self._tail_start = max(0, size - _TAIL)
        self._tail: bytes | None = None

    def seekable(self) -> bool:
        """Whether the position can be moved: it can."""
        return True

    def readable(self) -> bool:
        """Whether it can be read: it can."""
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        """Move the position."""
        origin = {io.SEEK_SET: 0, io.SEEK_CUR: self._position, io.SEEK_END: self._size}[whence]
        self._position = max(0, origin + offset)
        return self._position

    def tell(self) -> int:
        """Tell the position."""
        return self._position

    def readinto(self, buffer: "memoryview | bytearray") -> int:  # type: ignore[override]
        """Fill the buffer from the position on."""
        end = min(self._position + len(buffer), self._size)
        content = self._part(self._position, end) if end > self._position else b""
        buffer[: len(content)] = content
        self._position += len(content)
        return len(content)

    def _part(self, start: int, end: int) -> bytes:
        if start < self._tail_start:
            return self._fetch(start, end)
        if self._tail is None:
            self._tail = self._fetch(self._tail_start, self._size)
        return self._tail[start - self._tail_start : end - self._tail_start]
