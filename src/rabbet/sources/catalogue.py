"""All sources of a project together: what the solver asks, answered from several threads."""

import threading
from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from fnmatch import fnmatchcase
from functools import partial
from typing import Protocol, Self, TypeVar

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.model.lock import LockedFile
from rabbet.core.model.release import Candidate, ListedFile, Listing, Metadata, SetAside
from rabbet.core.model.target import Target
from rabbet.core.solve.candidates import Candidates, candidates_for
from rabbet.core.solve.policy import Policy
from rabbet.formats.metadata import MetadataBroken, parse_metadata, parse_static_metadata
from rabbet.sources.base import Source
from rabbet.sources.waiting import awaited

__all__ = ["Catalogue", "MetadataMemory"]

Answer = TypeVar("Answer")
_THREADS = 16


class MetadataMemory(Protocol):
    """Remembers the metadata of wheels by their hash, for good: the content of a hash never changes."""

    def recall(self, sha256: str) -> bytes | None:
        """What was remembered, if anything."""

    def remember(self, sha256: str, content: bytes) -> None:
        """Keep it."""


class Catalogue:
    """Answers the solver (it is a `Provider`) from sources in their order.

    Each source comes with names and patterns: libraries that match come from there and from nowhere else, and
    no others do. Any other library comes from the first source without patterns that knows it.

    What is likely to be asked next is fetched ahead, by several threads: the listing of a library that
    something needs, the metadata of the release that will probably be chosen, and, where one release after
    the other is refused, that of a growing number of the next older ones. `waiting` is told what an answer
    waits for. `set_aside` holds the releases that were asked for and whose metadata
    is of no use, with the reasons.
    """

    def __init__(
        self,
        sources: Sequence[tuple[Source, Sequence[str]]],
        target: Target,
        memory: MetadataMemory,
        *,
        policy: Policy,
        waiting: Callable[[str], None],
    ) -> None:
        self._given = tuple(sources)
        self._sources = {source.name: source for source, _ in sources}
        self._target = target
        self._memory = memory
        self._policy = policy
        self._waiting = waiting
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="catalogue")
        self.set_aside: dict[tuple[NormalizedName, Version], str] = {}
        self._guard = threading.Lock()
        self._found: dict[NormalizedName, Future[Candidates]] = {}
        self._metadata: dict[tuple[NormalizedName, Version], Future[Metadata | SetAside]] = {}
        self._listings: dict[NormalizedName, Listing | None] = {}
        self._parsed: dict[tuple[str, str], Metadata | SetAside] = {}
        self._asked: Counter[NormalizedName] = Counter()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    def for_target(self, target: Target) -> "Catalogue":
        """The same sources for another target; what was read is not read again."""
        other = Catalogue(self._given, target, self._memory, policy=self._policy, waiting=self._waiting)
        other._listings = self._listings
        other._parsed = self._parsed
        other.set_aside = self.set_aside
        other._pool = self._pool
        return other

    @property
    def indexes(self) -> dict[str, str]:
        """The address of each source that is an index, by the source's name."""
        return {name: source.index for name, source in self._sources.items() if source.index is not None}

    def expect(self, requirements: Iterable[Requirement]) -> None:
        """Begin to read the listings that these ask for, the metadata of the likely choices, and so on."""
        for requirement in requirements:
            name = canonicalize_name(requirement.name)
            if name not in self._found:
                self._listing(name).add_done_callback(partial(self._expect_choice, requirement))

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target. Raises `SourceFailed`."""
        return self._awaited(self._listing(name), f"the listing of {name}")

    def listing(self, name: NormalizedName) -> Listing | None:
        """Everything that a library's source lists of it, if any knows it. Raises `SourceFailed`."""
        self.candidates(name)
        return self._listings[name]

    def metadata(self, candidate: Candidate) -> Metadata | SetAside:
        """What the best file of a release says of its needs. Raises `SourceFailed`, `IntegrityFailed`."""
        answer = self._reading_metadata(candidate)
        self._expect_older(candidate)
        metadata = self._awaited(answer, f"the metadata of {candidate}")
        if isinstance(metadata, SetAside):
            self.set_aside[candidate.name, candidate.version] = metadata.reason
        return metadata

    def _awaited(self, answer: "Future[Answer]", what: str) -> Answer:
        if not answer.done():
            self._waiting(what)
        return awaited(answer)

    def _listing(self, name: NormalizedName) -> "Future[Candidates]":
        with self._guard:
            if name not in self._found:
                self._found[name] = self._pool.submit(self._read, name)
            return self._found[name]

    def _reading_metadata(self, candidate: Candidate) -> "Future[Metadata | SetAside]":
        key = (candidate.name, candidate.version)
        with self._guard:
            if key not in self._metadata:
                self._asked[candidate.name] += 1
                self._metadata[key] = self._pool.submit(self._read_metadata, candidate)
            return self._metadata[key]

    def _expect_choice(self, requirement: Requirement, listing: "Future[Candidates]") -> None:
        """Read ahead the metadata of what the solver will try first."""
        if listing.cancelled() or listing.exception() is not None:
            return
        releases = {one.version: one for one in listing.result().releases if not one.yanked}
        admitted = list(requirement.specifier.filter(releases))
        if admitted:
            preferred = self._policy.preferred.get(canonicalize_name(requirement.name), ())
            choice = next((version for version in preferred if version in admitted), max(admitted))
            with suppress(RuntimeError):  # the pool was closed meanwhile: the answer is no longer wanted
                reading = self._reading_metadata(releases[choice])
                reading.add_done_callback(partial(self._expect_needs, requirement))

    def _expect_needs(self, requirement: Requirement, reading: "Future[Metadata | SetAside]") -> None:
        """Read ahead what the probable choice needs for itself and for the extras that are asked for."""
        if reading.cancelled() or reading.exception() is not None:
            return
        metadata = reading.result()
        if not isinstance(metadata, SetAside):
            extras = ["", *(canonicalize_name(extra) for extra in requirement.extras)]
            needs = metadata.requirements
            with suppress(RuntimeError):
                self.expect(
                    one for one in needs if any(self._target.admits(one.marker, extra) for extra in extras)
                )

    def _expect_older(self, candidate: Candidate) -> None:
        """When a library is asked for again and again, read ahead as many releases as were asked for."""
        ahead = min(self._asked[candidate.name] - 1, _THREADS * 2)
        if ahead > 0:
            releases = self._found[candidate.name].result().releases
            here = bisect_left(releases, candidate.version, key=lambda one: one.version)
            for older in releases[max(0, here - ahead) : here]:
                self._reading_metadata(older)

    def locked(self, candidates: Iterable[Candidate]) -> dict[NormalizedName, list[LockedFile]]:
        """The files of the chosen releases as they are written into the lock, in their order."""
        asked = {
            candidate.name: [self._pool.submit(self._locked, file) for file in candidate.files]
            for candidate in candidates
        }
        what = "sizes and hashes of files"
        return {name: [self._awaited(one, what) for one in answers] for name, answers in asked.items()}

    def all_names(self) -> tuple[str, ...]:
        """All names that the sources list, as far as they do."""
        return tuple(name for source in self._sources.values() for name in source.names())

    def also_known(self, chosen: Iterable[Candidate]) -> dict[NormalizedName, tuple[str, ...]]:
        """Which chosen libraries later sources know too: somebody else may publish under such a name."""
        asked = {
            one.name: [
                (source.name, self._pool.submit(source.listing, one.name))
                for source in self._sources_after(one)
            ]
            for one in chosen
        }
        known = {
            name: tuple(source for source, listing in found if awaited(listing) is not None)
            for name, found in asked.items()
        }
        return {name: sources for name, sources in known.items() if sources}

    def _sources_after(self, chosen: Candidate) -> list[Source]:
        """The sources behind the one that a library is taken from; none where one claims its name."""
        if self._claiming(chosen.name):
            return []
        able = self._sources_of(chosen.name)
        return able[able.index(self._sources[chosen.source]) + 1 :]

    def _sources_of(self, name: NormalizedName) -> list[Source]:
        """The sources that may serve a library, in order."""
        return self._claiming(name) or [source for source, only in self._given if not only]

    def _claiming(self, name: NormalizedName) -> list[Source]:
        return [
            source
            for source, only in self._given
            if any(fnmatchcase(name, canonicalize_name(pattern)) for pattern in only)
        ]

    def _read(self, name: NormalizedName) -> Candidates:
        if name not in self._listings:
            listings = (source.listing(name) for source in self._sources_of(name))
            self._listings[name] = next((one for one in listings if one is not None), None)
        listing = self._listings[name]
        if listing is None:
            return Candidates(name=name, releases=(), known=False)
        may_build = name in self._policy.may_build
        return candidates_for(listing, self._target, as_of=self._policy.as_of, may_build=may_build)

    def _read_metadata(self, candidate: Candidate) -> Metadata | SetAside:
        if candidate.tree is not None:
            return candidate.tree.metadata
        file = candidate.files[0]
        key = (file.source, file.location)
        if key not in self._parsed:
            self._parsed[key] = self._parse_metadata(candidate, file)
        return self._parsed[key]

    def _parse_metadata(self, candidate: Candidate, file: ListedFile) -> Metadata | SetAside:
        content = self._memory.recall(file.sha256) if file.sha256 else None
        try:
            if content is None:
                content = self._sources[file.source].metadata(file)
                if file.sha256:
                    self._memory.remember(file.sha256, content)
            parse = parse_metadata if file.is_wheel else parse_static_metadata
            metadata = parse(content)
        except MetadataBroken as error:
            return SetAside(version=str(candidate.version), reason=str(error))
        if (metadata.name, metadata.version) != (candidate.name, candidate.version):
            told = f"{metadata.name} {metadata.version}"
            return SetAside(version=str(candidate.version), reason=f"its metadata says that it is {told}")
        return metadata

    def _locked(self, file: ListedFile) -> LockedFile:
        return self._sources[file.source].locked(file)
