"""Wheels that the declaration names by their address (PEP 508, direct references)."""

import hashlib
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from urllib.parse import unquote, urlsplit
from urllib.request import url2pathname

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.lock import LockedWheel
from rabbet.core.model.release import Listing, WheelFile
from rabbet.core.wheel_name import parse_wheel_name
from rabbet.errors import NotUnderstood
from rabbet.sources.http import HttpClient, without_credentials
from rabbet.sources.local_file import read_pieces
from rabbet.sources.wheel_metadata import far_metadata, metadata_in

__all__ = ["DIRECT", "DirectSource", "direct_addresses"]

DIRECT = "declared addresses"


def direct_addresses(requirements: Iterable[Requirement]) -> Mapping[NormalizedName, str]:
    """The address of each library that is required from one.

    Raises `NotUnderstood` for two addresses of one library, and for one that is no wheel of it.
    """
    found: dict[NormalizedName, str] = {}
    for requirement in requirements:
        if requirement.url is None:
            continue
        name = canonicalize_name(requirement.name)
        if found.setdefault(name, requirement.url) != requirement.url:
            raise NotUnderstood(
                f"{name} is declared from two addresses", because=[found[name], requirement.url]
            )
        parsed = parse_wheel_name(_filename(requirement.url))
        if isinstance(parsed, str) or parsed.name != name:
            raise NotUnderstood(
                f"what {name} is declared from is no wheel of that name", because=[requirement.url]
            )
    return found


class DirectSource:
    """Knows exactly the libraries that are required from an address."""

    name = DIRECT
    index: str | None = None

    def __init__(self, addresses: Mapping[NormalizedName, str], client: HttpClient) -> None:
        self._addresses = addresses
        self._client = client

    def listing(self, name: NormalizedName) -> Listing | None:
        """The one wheel of the library."""
        address = self._addresses.get(name)
        parsed = parse_wheel_name(_filename(address)) if address else ""
        if address is None or isinstance(parsed, str):
            return None
        wheel = WheelFile.named(parsed, _filename(address), address, self.name)
        return Listing(name=name, source=self.name, wheels=(wheel,))

    def metadata(self, wheel: WheelFile) -> bytes:
        """From the file, or by ranges."""
        if _is_file(wheel.location):
            return metadata_in(io.BytesIO(b"".join(self._content(wheel.location))))
        return far_metadata(self._client, wheel.location)

    def locked(self, wheel: WheelFile) -> LockedWheel:
        """Hash and size come from the content."""
        digest, size = hashlib.sha256(), 0
        for piece in self._content(wheel.location):
            digest.update(piece)
            size += len(piece)
        url = without_credentials(wheel.location)
        return LockedWheel(filename=wheel.filename, sha256=digest.hexdigest(), size=size, url=url)

    def names(self) -> Sequence[str]:
        """The libraries that are required from an address."""
        return sorted(self._addresses)

    def _content(self, address: str) -> Iterator[bytes]:
        if not _is_file(address):
            yield from self._client.stream(address)
            return
        yield from read_pieces(Path(url2pathname(urlsplit(address).path)))


def _filename(address: str) -> str:
    return unquote(urlsplit(address).path.rpartition("/")[2])


def _is_file(address: str) -> bool:
    return urlsplit(address).scheme == "file"
