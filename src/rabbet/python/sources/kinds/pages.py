"""Cached listings of an index, kept parsed, used while they are fresh.

What is kept is what `ListedFile` needs, with each version and each set of tags once, so that no name of a
file is taken apart again; freshness follows HTTP (`http/freshness.py`; RFC 9110, `ETag` and `If-None-Match`).
"""

import hashlib
import time
from collections.abc import Mapping
from itertools import repeat
from operator import attrgetter

import msgspec
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.limits import UNREADABLE
from rabbet.core.model.release import ListedFile, Listing, Rejected
from rabbet.net.http.headers import fresh_seconds, may_be_kept
from rabbet.python.sources.base import Memory

__all__ = ["KeptPage", "Pages", "known_versions"]

# 1: first form. 2: source archives too. 3: names of files taken apart. 4: in columns. 5: the body apart.
_FORMAT = 5


class _Files(msgspec.Struct, array_like=True):
    """A listing's files, column by column, which are read several times as fast as rows.

    The version and the tags of each by their numbers; -1, no tags, for a source archive.
    """

    filename: list[str]
    version: list[int]
    build: list[tuple[int, str]]
    tags: list[int]
    location: list[str]
    size: list[int | None]
    sha256: list[str | None]
    requires_python: list[str | None]
    metadata_sha256: list[str | None]
    uploaded: list[str | None]
    yanked: list[str | None]


class _Body(msgspec.Struct, array_like=True):
    """The content of a page: versions and sets of tags, each once, files, and rejected releases."""

    versions: list[str]
    tags: list[list[str]]
    files: _Files
    rejected: list[tuple[str, str]]


class KeptPage(msgspec.Struct, array_like=True):
    """A listing as it is kept, with its tag, and from when until when it is fresh (seconds since 1970).

    `content` is the digest of the page as it came, for indexes that give their pages no tags. The `body` is
    decoded only when it is needed, by the thread that reads.
    """

    format: int
    etag: str
    content: str
    kept_at: float
    fresh_until: float
    body: msgspec.Raw

    @property
    def fresh(self) -> bool:
        """Whether it is fresh now; not if the clock was set back to before it was kept."""
        return self.kept_at <= time.time() < self.fresh_until

    def listing(self, name: NormalizedName, source: str) -> Listing:
        """The listing that was kept. Raises `msgspec.MsgspecError` for what is not of this form."""
        body = _BODY.decode(self.body)
        files, versions = body.files, [Version(text) for text in body.versions]
        tags = [*map(frozenset, body.tags), None]  # the number of no tags, -1, finds the last
        columns = zip(
            files.filename,
            repeat(name),
            [versions[number] for number in files.version],
            files.build,
            [tags[number] for number in files.tags],
            files.location,
            repeat(source),
            files.size,
            files.sha256,
            files.requires_python,
            files.metadata_sha256,
            files.uploaded,
            files.yanked,
            strict=False,
        )
        return Listing(
            name=name,
            source=source,
            files=tuple(map(ListedFile._make, columns)),
            rejected=tuple(Rejected(version=version, reason=reason) for version, reason in body.rejected),
        )

    def newest(self) -> Version | None:
        """The newest release that was listed, no pre-release, with a file that is not yanked.

        Raises `msgspec.MsgspecError` as `listing` does.
        """
        body = _BODY.decode(self.body)
        offered = {
            number
            for number, yanked in zip(body.files.version, body.files.yanked, strict=True)
            if yanked is None
        }
        versions = (Version(body.versions[number]) for number in offered)
        return max((version for version in versions if not version.is_prerelease), default=None)


def known_versions(page: KeptPage) -> list[Version]:
    """All versions that a page lists, the newest first; none where it can't be read."""
    try:
        return sorted(map(Version, _BODY.decode(page.body).versions), reverse=True)
    except (msgspec.MsgspecError, ValueError):
        return []


class _Renewal(msgspec.Struct, array_like=True):
    """That a page with this digest is unchanged: small, for pages are large and confirmed often."""

    content: str
    etag: str
    kept_at: float
    fresh_until: float


_RENEWAL = msgspec.msgpack.Decoder(_Renewal)
_BODY = msgspec.msgpack.Decoder(_Body)
_KEPT_PAGE = msgspec.msgpack.Decoder(KeptPage)


class Pages:
    """The kept listings of one index.

    Where its answers say nothing of how long they are fresh, they are so for `fresh_for` seconds.
    """

    def __init__(self, memory: Memory, fresh_for: int = 0) -> None:
        self._memory = memory
        self._fresh_for = fresh_for

    def recall(self, address: str) -> KeptPage | None:
        """The stored form of a page."""
        content = self._memory.recall(_key(address))
        try:
            page = _KEPT_PAGE.decode(content) if content else None
        except (msgspec.MsgspecError, *UNREADABLE):
            return None
        return self._renewed(address, page) if page is not None and page.format == _FORMAT else None

    def _renewed(self, address: str, page: KeptPage) -> KeptPage:
        """A page as the index has confirmed it since it was kept."""
        content = self._memory.recall(_renewal_key(address))
        try:
            renewal = _RENEWAL.decode(content) if content else None
        except (msgspec.MsgspecError, ValueError):
            renewal = None
        if renewal is None or renewal.content != page.content or renewal.kept_at < page.kept_at:
            return page
        changed = {"etag": renewal.etag, "kept_at": renewal.kept_at, "fresh_until": renewal.fresh_until}
        return msgspec.structs.replace(page, **changed)

    def keep(self, address: str, listing: Listing, content: str, headers: Mapping[str, str]) -> None:
        """Keep a listing that was just read, and its page's digest, unless the index forbids it."""
        if not may_be_kept(headers):
            return
        versions: dict[Version, int] = {}
        tags: dict[frozenset[str] | None, int] = {None: -1}
        files = sorted(listing.files, key=attrgetter("version"))  # so it needs no sorting next time
        body = _Body(
            files=_Files(
                filename=[file.filename for file in files],
                version=[versions.setdefault(file.version, len(versions)) for file in files],
                build=[file.build for file in files],
                tags=[tags.setdefault(file.tags, len(tags) - 1) for file in files],
                location=[file.location for file in files],
                size=[file.size for file in files],
                sha256=[file.sha256 for file in files],
                requires_python=[file.requires_python for file in files],
                metadata_sha256=[file.metadata_sha256 for file in files],
                uploaded=[file.uploaded for file in files],
                yanked=[file.yanked for file in files],
            ),
            rejected=[(rejected.version, rejected.reason) for rejected in listing.rejected],
            versions=[str(version) for version in versions],
            tags=[sorted(tag) for tag in tags if tag is not None],
        )
        page = KeptPage(
            format=_FORMAT,
            etag=headers.get("etag", ""),
            content=content,
            kept_at=time.time(),
            fresh_until=self._fresh_until(headers),
            body=msgspec.Raw(msgspec.msgpack.encode(body)),
        )
        self._write(address, page)

    def renew(self, address: str, page: KeptPage, headers: Mapping[str, str]) -> None:
        """The index said, or its answer showed, that a page has not changed."""
        etag, until = headers.get("etag", page.etag), self._fresh_until(headers)
        if until or etag != page.etag:
            renewal = _Renewal(page.content, etag, time.time(), until)
            self._memory.remember(_renewal_key(address), msgspec.msgpack.encode(renewal))

    def _fresh_until(self, headers: Mapping[str, str]) -> float:
        silent = "cache-control" not in headers and "expires" not in headers
        seconds = self._fresh_for if silent else fresh_seconds(headers)
        return time.time() + seconds if seconds else 0.0

    def _write(self, address: str, page: KeptPage) -> None:
        self._memory.remember(_key(address), msgspec.msgpack.encode(page))


def _key(address: str) -> str:
    return hashlib.sha256(address.encode()).hexdigest()


def _renewal_key(address: str) -> str:
    return f"{_key(address)}-renewed"
