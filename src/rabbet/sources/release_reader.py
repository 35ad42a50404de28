"""Listings and metadata, each read once for all targets of a command."""

import hashlib
from collections.abc import Callable, Sequence

from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate, ListedFile, Listing, Metadata, SetAside, SourceTree
from rabbet.formats.metadata import MetadataBroken, parse_metadata, parse_static_metadata
from rabbet.sources.base import FileSource, Memory, Source

__all__ = ["ReleaseReader", "told_key"]


def told_key(teller: str, sha256: str) -> str:
    """The key of what an index, or else the place of a file, told of the wheel with this hash."""
    return hashlib.sha256(f"{teller}\n{sha256}".encode()).hexdigest()


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
        self._stated: dict[tuple[str, str], Metadata | SetAside] = {}

    def listing(self, name: NormalizedName, sources: Sequence[Source]) -> Listing | None:
        """What the first of these sources that knows a library lists of it. Raises `SourceFailed`."""
        key = (name, *map(id, sources))  # addresses under a marker count for some targets only
        if key not in self._listings:
            listings = (source.listing(name) for source in sources)
            self._listings[key] = next((listing for listing in listings if listing is not None), None)
        return self._listings[key]

    def stated(self, candidate: Candidate, source_named: Callable[[str], FileSource]) -> Metadata | SetAside:
        """What the best file of a release says itself. Raises `SourceFailed`, `IntegrityFailed`."""
        if isinstance(candidate.offered, SourceTree):
            return candidate.offered.metadata
        file = candidate.offered[0]
        key = (file.source, file.location)
        if key not in self._stated:
            self._stated[key] = self._read(candidate, file, source_named(file.source))
        return self._stated[key]

    def metadata(
        self, candidate: Candidate, source_named: Callable[[str], FileSource]
    ) -> Metadata | SetAside:
        """What a release needs, as the declaration corrects it. Raises as `stated` does."""
        stated = self.stated(candidate, source_named)
        return stated if isinstance(stated, SetAside) else self._correct(stated)

    def tell(self, candidate: Candidate, told: Metadata | SetAside) -> None:
        """Take what a build told of a release whose file does not say it."""
        self._stated[candidate.files[0].source, candidate.files[0].location] = told

    def _read(self, candidate: Candidate, file: ListedFile, source: FileSource) -> Metadata | SetAside:
        try:
            content = self._content(file, source)
            metadata = parse_metadata(content) if file.is_wheel else parse_static_metadata(content)
        except MetadataBroken as error:
            return SetAside(version=str(candidate.version), reason=str(error), unbuilt=not file.is_wheel)
        if (metadata.name, metadata.version) != (candidate.name, candidate.version):
            told = f"{metadata.name} {metadata.version}"
            return SetAside(version=str(candidate.version), reason=f"its metadata says that it is {told}")
        return metadata

    def _content(self, file: ListedFile, source: FileSource) -> bytes:
        """What the wheel itself says, if it was seen before; else what this source tells of it."""
        if not file.sha256:
            return source.metadata(file)
        told = told_key(source.index or file.location, file.sha256)
        for key in (file.sha256, told):
            content = self._memory.recall(key)
            if content is not None:
                return content
        content = source.metadata(file)
        self._memory.remember(told, content)
        return content
