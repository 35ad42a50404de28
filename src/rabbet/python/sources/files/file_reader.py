"""Listed files by their addresses, on this machine or over HTTP: metadata, hash and content of each."""

import hashlib
import threading
from collections.abc import Iterator
from concurrent.futures import Future
from functools import cached_property
from typing import TYPE_CHECKING

from rabbet.core.limits import MOST_ANNOUNCED
from rabbet.core.model.lock import LockedSdist, LockedWheel
from rabbet.core.model.release import ListedFile
from rabbet.errors import IntegrityFailed
from rabbet.net.http.client import HttpAnswer, HttpClient
from rabbet.net.http.headers import announced_size, most_of
from rabbet.net.local_file import local_path, open_file, read_pieces
from rabbet.work.pools import awaited

if TYPE_CHECKING:
    from rabbet.python.sources.files.archive_metadata import RemoteWheels

__all__ = ["FileReader"]

_IDENTITY = {"Accept-Encoding": "identity"}
_IN_MEMORY = 8_000_000  # bytes of a source archive; a larger one is put on the disk meanwhile


class FileReader:
    """Reads files wherever they are; may be used from many threads."""

    def __init__(self, client: HttpClient) -> None:
        self._client = client
        self._guard = threading.Lock()
        self._asked: dict[str, Future[HttpAnswer]] = {}

    def ask_metadata(self, file: ListedFile) -> "Future[HttpAnswer] | None":
        """Ask for the metadata file beside a file (PEP 658), without waiting; `None` where there is none."""
        if file.metadata_sha256 is None or local_path(file.location) is not None:
            return None
        with self._guard:
            if file.location not in self._asked:
                self._asked[file.location] = self._client.begin(file.location + ".metadata")
            return self._asked[file.location]

    def metadata(self, file: ListedFile) -> bytes:
        """From the file beside it (PEP 658), else out of the file: of a wheel by ranges from its end.

        Raises `SourceFailed`, `IntegrityFailed`, `MetadataBroken`.
        """
        path, asked = local_path(file.location), self.ask_metadata(file)
        if asked is not None:
            answer = awaited(asked)
            with self._guard:
                self._asked.pop(file.location, None)  # the reader stores its content
            if answer.status == 200:
                _check(answer.body, file.metadata_sha256 or "", f"{file.filename}.metadata")
                return answer.body
        if not file.is_wheel:
            return self._of_sdist(file)
        if path is None:
            return self._remote_wheels.metadata(file.location, file.size)
        from rabbet.python.sources.files.archive_metadata import metadata_in

        with open_file(path) as wheel:
            return metadata_in(wheel)

    def locked(self, file: ListedFile) -> LockedWheel | LockedSdist:
        """Hash and size as listed; what the listing leaves out, from the file itself.

        Raises `SourceFailed`; `IntegrityFailed` where the file that was read is not what is listed.
        """
        sha256, size = file.sha256, file.size
        if sha256 is not None and size is None:
            size = self._announced(file.location)
        if sha256 is None or size is None:
            sha256, size = self.measured(file)
        kind = LockedWheel if file.is_wheel else LockedSdist
        return kind(filename=file.filename, sha256=sha256, size=size, url=file.location)

    def measured(self, file: ListedFile) -> tuple[str, int]:
        """The SHA-256 and size of a file's content, checked against the listing. Raises as `locked` does."""
        digest, size, most = hashlib.sha256(), 0, self._most(file)
        for piece in self.content(file.location):
            digest.update(piece)
            size += len(piece)
            if size > most:
                raise IntegrityFailed(
                    f"{file.filename} is larger than its source says",
                    because=[f"more than {most} bytes came"],
                )
        if file.sha256 not in (None, digest.hexdigest()):
            raise _other(file.filename, str(file.sha256), digest.hexdigest())
        return digest.hexdigest(), size

    def content(self, address: str) -> Iterator[bytes]:
        """A file piece by piece. Raises `SourceFailed`."""
        path = local_path(address)
        return self._client.stream(address) if path is None else read_pieces(path)

    def _most(self, file: ListedFile) -> int:
        """How many bytes a file may have: as many as the listing tells, else the server."""
        if file.size is not None:
            return file.size
        if local_path(file.location) is not None:
            return MOST_ANNOUNCED
        return most_of(self._announced(file.location))

    def _announced(self, address: str) -> int | None:
        """The size that a server tells, if it does; `None` for a file on this machine."""
        if local_path(address) is not None:
            return None
        head = self._client.get(address, _IDENTITY, method="HEAD")
        return announced_size(head.headers) if head.status == 200 else None

    @cached_property
    def _remote_wheels(self) -> "RemoteWheels":
        # Here: most indexes offer metadata files.
        from rabbet.python.sources.files.archive_metadata import RemoteWheels

        return RemoteWheels(self._client)

    def _of_sdist(self, file: ListedFile) -> bytes:
        import tempfile

        from rabbet.python.sources.files.archive_metadata import larger_than, sdist_metadata_in

        digest, most = hashlib.sha256(), self._most(file)
        with tempfile.SpooledTemporaryFile(_IN_MEMORY) as whole:
            for piece in self.content(file.location):
                digest.update(piece)
                whole.write(piece)
                if whole.tell() > most:
                    raise larger_than(most)
            if file.sha256 not in (None, digest.hexdigest()):
                raise _other(file.filename, str(file.sha256), digest.hexdigest())
            whole.seek(0)
            return sdist_metadata_in(whole, file.filename)


def _check(content: bytes, sha256: str, what: str) -> None:
    found = hashlib.sha256(content).hexdigest()
    if sha256 and found != sha256:
        raise _other(what, sha256, found)


def _other(what: str, listed: str, found: str) -> IntegrityFailed:
    return IntegrityFailed(
        f"{what} is not what the source's listing says",
        because=[f"listed: sha256 {listed}", f"received: sha256 {found}"],
        note="try again; if it stays so, the source or the way to it can't be trusted",
    )
