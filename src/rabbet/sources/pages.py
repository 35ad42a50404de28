"""Listings that were read before: kept parsed, taken again while the index says that they are fresh.

What is kept is what `ListedFile` needs, with each version and each set of tags once, so that no name of a
file is taken apart again; freshness follows HTTP (RFC 9111, the `max-age` of `Cache-Control`; RFC 9110,
`ETag` and `If-None-Match`).
"""

import hashlib
import re
import time
from collections.abc import Iterator, Mapping
from typing import Any, Protocol

import msgspec
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import ListedFile, Listing, SetAside, WheelFile

__all__ = ["KeptPage", "PageMemory", "Pages"]

_FORMAT = 3  # 1: first form. 2: source archives too. 3: names of files taken apart, when it was kept
_MAX_AGE = re.compile(r"max-age=(\d{1,9})")


class PageMemory(Protocol):
    """Keeps contents by key; losing one costs time only."""

    def recall(self, key: str) -> bytes | None:
        """What was remembered, if anything."""

    def remember(self, key: str, content: bytes) -> None:
        """Keep it."""


class _Row(msgspec.Struct, array_like=True):
    """A file; its version and its tags by their numbers, and no tags for a source archive."""

    filename: str
    version: int
    build: tuple[int, str]
    tags: int | None
    location: str
    size: int | None
    sha256: str | None
    requires_python: str | None
    metadata_sha256: str | None
    uploaded: str | None
    yanked: str | None


class KeptPage(msgspec.Struct, array_like=True):
    """A listing as it is kept, with its tag, and from when until when it is fresh (seconds since 1970)."""

    format: int
    etag: str
    kept_at: float
    fresh_until: float
    versions: list[str]
    tags: list[list[str]]
    rows: list[_Row]
    aside: list[tuple[str, str]]

    @property
    def fresh(self) -> bool:
        """Whether the index need not be asked; never before it was kept, for a clock can be set back."""
        return self.kept_at <= time.time() < self.fresh_until

    def listing(self, name: NormalizedName, source: str) -> Listing:
        """The listing again."""
        files = list(self._files(name, source))
        return Listing(
            name=name,
            source=source,
            wheels=tuple(one for one in files if isinstance(one, WheelFile)),
            sdists=tuple(one for one in files if not isinstance(one, WheelFile)),
            aside=tuple(SetAside(version=version, reason=reason) for version, reason in self.aside),
        )

    def _files(self, name: NormalizedName, source: str) -> Iterator[ListedFile]:
        versions = [Version(text) for text in self.versions]
        tags = [frozenset(one) for one in self.tags]
        for row in self.rows:
            known: dict[str, Any] = {
                "filename": row.filename,
                "name": name,
                "version": versions[row.version],
                "location": row.location,
                "source": source,
                "size": row.size,
                "sha256": row.sha256,
                "requires_python": row.requires_python,
                "metadata_sha256": row.metadata_sha256,
                "uploaded": row.uploaded,
                "yanked": row.yanked,
            }
            if row.tags is None:
                yield ListedFile(**known)
            else:
                yield WheelFile(**known, build=row.build, tags=tags[row.tags])


_KEPT_PAGE = msgspec.msgpack.Decoder(KeptPage)


class Pages:
    """The kept listings of one index."""

    def __init__(self, memory: PageMemory) -> None:
        self._memory = memory

    def recall(self, address: str) -> KeptPage | None:
        """What is kept of a page, in the present format."""
        content = self._memory.recall(_key(address))
        try:
            page = _KEPT_PAGE.decode(content) if content else None
        except msgspec.MsgspecError:
            return None
        return page if page is not None and page.format == _FORMAT else None

    def keep(self, address: str, listing: Listing, headers: Mapping[str, str]) -> None:
        """Keep a listing that was just read, unless the index forbids it."""
        if "no-store" in headers.get("cache-control", ""):
            return
        versions: dict[str, int] = {}
        tags: dict[frozenset[str], int] = {}
        page = KeptPage(
            format=_FORMAT,
            etag=headers.get("etag", ""),
            kept_at=time.time(),
            fresh_until=_fresh_until(headers),
            rows=[_row(one, versions, tags) for one in (*listing.wheels, *listing.sdists)],
            aside=[(one.version, one.reason) for one in listing.aside],
            versions=list(versions),
            tags=[sorted(one) for one in tags],
        )
        self._write(address, page)

    def renew(self, address: str, page: KeptPage, headers: Mapping[str, str]) -> None:
        """The index said that a page has not changed."""
        self._write(
            address, msgspec.structs.replace(page, kept_at=time.time(), fresh_until=_fresh_until(headers))
        )

    def _write(self, address: str, page: KeptPage) -> None:
        self._memory.remember(_key(address), msgspec.msgpack.encode(page))


def _row(file: ListedFile, versions: dict[str, int], tags: dict[frozenset[str], int]) -> _Row:
    """A file as it is kept; a version or a set of tags that is new gets the next number."""
    wheel = file if isinstance(file, WheelFile) else None
    return _Row(
        filename=file.filename,
        version=versions.setdefault(str(file.version), len(versions)),
        build=wheel.build if wheel else (0, ""),
        tags=tags.setdefault(wheel.tags, len(tags)) if wheel else None,
        location=file.location,
        size=file.size,
        sha256=file.sha256,
        requires_python=file.requires_python,
        metadata_sha256=file.metadata_sha256,
        uploaded=file.uploaded,
        yanked=file.yanked,
    )


def _fresh_until(headers: Mapping[str, str]) -> float:
    control = headers.get("cache-control", "")
    match = _MAX_AGE.search(control)
    return time.time() + int(match[1]) if match and "no-cache" not in control else 0.0


def _key(address: str) -> str:
    return hashlib.sha256(address.encode()).hexdigest()
