"""Listings and metadata, each read once for all targets of a command."""

import hashlib
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedLibrary
from rabbet.core.model.release import Candidate, ListedFile, Listing, Metadata, Rejected, SourceTree
from rabbet.net.http.client import HttpAnswer
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, parse_static_metadata, whole
from rabbet.python.sources.base import AskableSource, FileSource, Memory, Source

__all__ = ["ReleaseReader", "remembered_metadata", "reported_metadata_key"]

_UNKNOWN = 404
_KEPT = HttpAnswer(200, "", {}, b"")  # in place of an answer: what is kept will do


def reported_metadata_key(teller: str, sha256: str) -> str:
    """The cache key for metadata that a source reported for the wheel with this hash."""
    return hashlib.sha256(f"{teller}\n{sha256}".encode()).hexdigest()


def remembered_metadata(memory: Memory, library: LockedLibrary) -> Iterator[bytes]:
    """The cached metadata of a locked library.

    Of each file it is what the file says itself, else what its index told.
    """
    for file in library.files:
        content = memory.recall(file.sha256)
        if content is None and library.index is not None:
            content = memory.recall(reported_metadata_key(library.index, file.sha256))
        if content is not None:
            yield content


class ReleaseReader:
    """Reads what sources say of releases; may be used from many threads.

    The `memory` keeps the metadata of wheels: by their hash where the wheel itself was seen, for good. What a
    source only told of a wheel is kept under another key, and counts for that source alone. `correct` is what
    the declaration says that metadata should be.
    """

    def __init__(self, memory: Memory, correct: Callable[[Metadata], Metadata]) -> None:
        self._memory = memory
        self._correct = correct
        self._listings: dict[tuple[object, ...], Listing | None] = {}
        self._stated: dict[tuple[str, str], Metadata | Rejected] = {}

    def listing(self, name: NormalizedName, sources: Sequence[Source]) -> Listing | None:
        """The listing of the first of these sources that knows the library. Raises `SourceFailed`."""
        key = _listing_key(name, sources)
        if key not in self._listings:
            listings = (source.listing(name) for source in sources)
            self._listings[key] = next((listing for listing in listings if listing is not None), None)
        return self._listings[key]

    def knows_listing(self, name: NormalizedName, sources: Sequence[Source]) -> bool:
        """Whether the listing was read already."""
        return _listing_key(name, sources) in self._listings

    def knows_metadata(self, candidate: Candidate) -> bool:
        """Whether the metadata of a release's best file was read already."""
        offered = candidate.offered
        return isinstance(offered, SourceTree) or (offered[0].source, offered[0].location) in self._stated

    def ask_listing(self, name: NormalizedName, sources: Sequence[Source]) -> "Future[HttpAnswer] | None":
        """Ask indexes for a library, one after the other, until one knows it; wait for nothing.

        What it gives is there when `listing` has nothing more to wait for; `None` where other sources are
        asked.
        """
        asked = [source for source in sources if isinstance(source, AskableSource)]
        if len(asked) != len(sources) or not asked:
            return None
        if len(asked) == 1:
            return asked[0].ask_listing(name) or _known()
        found: Future[HttpAnswer] = Future()
        _ask_in_turn(name, asked, found)
        return found

    def ask_metadata(
        self, candidate: Candidate, source_named: Callable[[str], FileSource]
    ) -> "Future[HttpAnswer] | None":
        """Ask for the metadata of a release's best file, without waiting; `None` where that takes longer."""
        if isinstance(candidate.offered, SourceTree):
            return None
        file = candidate.offered[0]
        source = source_named(file.source)
        if any(key in self._memory for key in _memory_keys(file, source)):
            return _known()
        return source.ask_metadata(file) if isinstance(source, AskableSource) else None

    def stated(self, candidate: Candidate, source_named: Callable[[str], FileSource]) -> Metadata | Rejected:
        """The metadata in a release's best file. Raises `SourceFailed`, `IntegrityFailed`."""
        if isinstance(candidate.offered, SourceTree):
            return candidate.offered.metadata
        file = candidate.offered[0]
        key = (file.source, file.location)
        if key not in self._stated:
            self._stated[key] = self._read(candidate, file, source_named(file.source))
        return self._stated[key]

    def metadata(
        self, candidate: Candidate, source_named: Callable[[str], FileSource]
    ) -> Metadata | Rejected:
        """The metadata of a release with the declaration's corrections. Raises as `stated` does."""
        stated = self.stated(candidate, source_named)
        if isinstance(stated, Rejected):
            return stated
        try:
            return whole(self._correct(stated))
        except MetadataBroken as error:
            return Rejected(version=str(candidate.version), reason=str(error))

    def tell(self, candidate: Candidate, told: Metadata | Rejected) -> None:
        """Take what a build told of a release whose file does not say it."""
        self._stated[candidate.files[0].source, candidate.files[0].location] = told

    def _read(self, candidate: Candidate, file: ListedFile, source: FileSource) -> Metadata | Rejected:
        try:
            content = self._content(file, source)
            metadata = parse_metadata(content) if file.is_wheel else parse_static_metadata(content)
        except MetadataBroken as error:
            return Rejected(version=str(candidate.version), reason=str(error), unbuilt=not file.is_wheel)
        if (metadata.name, metadata.version) != (candidate.name, candidate.version):
            told = f"{metadata.name} {metadata.version}"
            return Rejected(version=str(candidate.version), reason=f"its metadata says that it is {told}")
        return metadata

    def _content(self, file: ListedFile, source: FileSource) -> bytes:
        """The stored metadata of the wheel itself, else what this source reported."""
        keys = _memory_keys(file, source)
        for key in keys:
            content = self._memory.recall(key)
            if content is not None:
                return content
        content = source.metadata(file)
        for told in keys[1:]:
            self._memory.remember(told, content)
        return content


def _listing_key(name: NormalizedName, sources: Sequence[Source]) -> tuple[object, ...]:
    return (name, *map(id, sources))  # addresses under a marker count for some targets only


def _memory_keys(file: ListedFile, source: FileSource) -> tuple[str, ...]:
    """The cache keys of a file's metadata: by its hash, and as this source reported it."""
    return (
        (file.sha256, reported_metadata_key(source.index or file.location, file.sha256))
        if file.sha256
        else ()
    )


def _known() -> "Future[HttpAnswer]":
    """In place of an answer that nobody has to wait for."""
    known: Future[HttpAnswer] = Future()
    known.set_result(_KEPT)
    return known


def _ask_in_turn(name: NormalizedName, indexes: Sequence[AskableSource], found: "Future[HttpAnswer]") -> None:
    """Ask the first; the next where it does not know the library. `found` is set when all is there."""
    asked = indexes[0].ask_listing(name)

    def answered(reply: "Future[HttpAnswer]") -> None:
        if reply.exception() is None and reply.result().status == _UNKNOWN and indexes[1:]:
            _ask_in_turn(name, indexes[1:], found)
        else:
            found.set_result(_KEPT)

    if asked is None:
        found.set_result(_KEPT)
    else:
        asked.add_done_callback(answered)
