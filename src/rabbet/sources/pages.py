"""Listings that were read before: kept parsed, taken again while the index says that they are fresh.

What is kept is what `ListedFile` needs, with versions and tags as texts; freshness follows HTTP (RFC 9111,
the `max-age` of `Cache-Control`; RFC 9110, `ETag` and `If-None-Match`).
"""

import hashlib
import re
import time
from collections.abc import Mapping
from typing import Protocol

import msgspec
from packaging.utils import NormalizedName

from rabbet.core.file_name import WheelName, parse_file_name
from rabbet.core.model.release import ListedFile, Listing, SetAside, WheelFile

__all__ = ["KeptPage", "PageMemory", "Pages"]

_FORMAT = 2  # 1: first form. 2: source archives too
_MAX_AGE = re.compile(r"max-age=(\d{1,9})")


class PageMemory(Protocol):
    """Keeps contents by key; losing one costs time only."""

    def recall(self, key: str) -> bytes | None:
        """What was remembered, if anything."""

    def remember(self, key: str, content: bytes) -> None:
        """Keep it."""


class _Row(msgspec.Struct, array_like=True):
    filename: str
    location: str
    size: int | None
    sha256: str | None
    requires_python: str | None
    metadata_sha256: str | None
    uploaded: str | None
    yanked: str | None


class KeptPage(msgspec.Struct, array_like=True):
    """A listing as it is kept, with its tag and the moment (seconds since 1970) until which it is fresh."""

    format: int
    etag: str
    fresh_until: float
    rows: list[_Row]
    aside: list[tuple[str, str]]

    @property
    def fresh(self) -> bool:
        """Whether the index need not be asked."""
        return time.time() < self.fresh_until

    def listing(self, name: NormalizedName, source: str) -> Listing:
        """The listing again."""
        files = [_file(row, name, source) for row in self.rows]
        return Listing(
            name=name,
            source=source,
            wheels=tuple(one for one in files if isinstance(one, WheelFile)),
            sdists=tuple(one for one in files if one is not None and not isinstance(one, WheelFile)),
            aside=tuple(SetAside(version=version, reason=reason) for version, reason in self.aside),
        )


class Pages:
    """The kept listings of one index."""

    def __init__(self, memory: PageMemory) -> None:
        self._memory = memory

    def recall(self, address: str) -> KeptPage | None:
        """What is kept of a page, in the present format."""
        content = self._memory.recall(_key(address))
        try:
            page = msgspec.msgpack.decode(content, type=KeptPage) if content else None
        except msgspec.MsgspecError:
            return None
        return page if page is not None and page.format == _FORMAT else None

    def keep(self, address: str, listing: Listing, headers: Mapping[str, str]) -> None:
        """Keep a listing that was just read, unless the index forbids it."""
        if "no-store" in headers.get("cache-control", ""):
            return
        rows = [
            _Row(
                one.filename,
                one.location,
                one.size,
                one.sha256,
                one.requires_python,
                one.metadata_sha256,
                one.uploaded,
                one.yanked,
            )
            for one in (*listing.wheels, *listing.sdists)
        ]
        aside = [(one.version, one.reason) for one in listing.aside]
        self._write(address, KeptPage(_FORMAT, headers.get("etag", ""), _fresh_until(headers), rows, aside))

    def renew(self, address: str, page: KeptPage, headers: Mapping[str, str]) -> None:
        """The index said that a page has not changed."""
        self._write(address, msgspec.structs.replace(page, fresh_until=_fresh_until(headers)))

    def _write(self, address: str, page: KeptPage) -> None:
        self._memory.remember(_key(address), msgspec.msgpack.encode(page))


def _file(row: _Row, name: NormalizedName, source: str) -> ListedFile | None:
    parsed = parse_file_name(row.filename, name)
    if isinstance(parsed, str):
        return None
    kind = WheelFile if isinstance(parsed, WheelName) else ListedFile
    return kind(
        filename=row.filename,
        **parsed._asdict(),
        location=row.location,
        source=source,
        size=row.size,
        sha256=row.sha256,
        requires_python=row.requires_python,
        metadata_sha256=row.metadata_sha256,
        uploaded=row.uploaded,
        yanked=row.yanked,
    )


def _fresh_until(headers: Mapping[str, str]) -> float:
    control = headers.get("cache-control", "")
    match = _MAX_AGE.search(control)
    return time.time() + int(match[1]) if match and "no-cache" not in control else 0.0


def _key(address: str) -> str:
    return hashlib.sha256(address.encode()).hexdigest()
