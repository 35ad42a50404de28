"""All sources of a project together: what the solver asks, answered from several threads."""

import hashlib
import threading
from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from fnmatch import fnmatchcase
from functools import partial
from typing import NamedTuple, Protocol, Self, TypeVar

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.lock import Artifact
from rabbet.core.model.release import Candidate, ListedFile, Listing, Metadata, SetAside, SourceTree
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, library_name
from rabbet.core.solve.candidates import Candidates, candidates_for
from rabbet.core.solve.policy import Policy
from rabbet.errors import SourceFailed
from rabbet.formats.metadata import MetadataBroken, parse_metadata, parse_static_metadata
from rabbet.sources.base import Source
from rabbet.sources.interruptible import awaited

__all__ = ["Catalogue", "MetadataMemory", "Reading", "told_key"]

Answer = TypeVar("Answer")
_THREADS = 16


class MetadataMemory(Protocol):
    """Remembers the metadata of wheels: by their hash where the wheel itself was seen, for good.

    What a source only told of a wheel is kept under another key, and counts for that source alone.
    """

    def recall(self, key: str) -> bytes | None:
        """What was remembered, if anything."""

    def remember(self, key: str, content: bytes) -> None:
        """Keep it."""


def told_key(teller: str, sha256: str) -> str:
    """The key of what an index, or else the place of a file, told of the wheel with this hash."""
    return hashlib.sha256(f"{teller}\n{sha256}".encode()).hexdigest()


class Reading(NamedTuple):
    """How metadata is read: where it is remembered, and what the declaration corrects of it."""

    memory: MetadataMemory
    correct: Callable[[Metadata], Metadata]


class Catalogue:
    """Answers the solver (it is a `Provider`) from sources in their order.

    `sources` gives those that count for a target. `locked_from` are the addresses of the indexes that locked
    libraries came from: from there they come again, or the command fails.

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
        sources: Callable[[Target], Sequence[tuple[Source, Sequence[str]]]],
        target: Target,
        reading: "Reading",
        *,
        policy: Policy,
        locked_from: Mapping[NormalizedName, str],
        waiting: Callable[[str], None],
    ) -> None:
        self._sources_for = sources
        self._given = tuple(sources(target))
        self._sources = {source.name: source for source, _ in self._given}
        self._locked_from = locked_from
        self._target = target
        self._reading = reading
        self._policy = policy
        self._waiting = waiting
        self._pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="catalogue")
        self.set_aside: dict[tuple[NormalizedName, Version], str] = {}
        self._guard = threading.Lock()
        self._found: dict[NormalizedName, Future[Candidates]] = {}
        self._metadata: dict[tuple[NormalizedName, Version], Future[Metadata | SetAside]] = {}
        self._listings: dict[tuple[object, ...], Listing | None] = {}
        self._parsed: dict[tuple[str, str], Metadata | SetAside] = {}
        self._asked: Counter[NormalizedName] = Counter()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)

    def for_target(self, target: Target) -> "Catalogue":
        """The same sources for another target; what was read is not read again."""
        other = Catalogue(
            self._sources_for,
            target,
            self._reading,
            policy=self._policy,
            locked_from=self._locked_from,
            waiting=self._waiting,
        )
        other._listings = self._listings
        other._parsed = self._parsed
        other.set_aside = self.set_aside
        other._pool = self._pool
        return other

    @property
    def indexes(self) -> dict[str, str]:
        """The address of each source that is an index, by the source's name."""
        return {name: source.index for name, source in self._sources.items() if source.index is not None}

    def expect(self, needs: Iterable[Need]) -> None:
        """Begin to read the listings that these ask for, the metadata of the likely choices, and so on."""
        for need in needs:
            if need.name not in self._found:
                self._listing(need.name).add_done_callback(partial(self._expect_choice, need))

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target. Raises `SourceFailed`."""
        return self._awaited(self._listing(name), f"the listing of {name}")

    def listing(self, name: NormalizedName) -> Listing | None:
        """Everything that a library's source lists of it, if any knows it. Raises `SourceFailed`."""
        self.candidates(name)
        return self._listings[self._listing_key(name)]

    def metadata(self, candidate: Candidate) -> Metadata | SetAside:
        """What the best file of a release says of its needs. Raises `SourceFailed`, `IntegrityFailed`."""
        answer = self._reading_metadata(candidate)
        self._expect_older(candidate)
        metadata = self._awaited(answer, f"the metadata of {candidate}")
        if isinstance(metadata, SetAside):
            self.set_aside[candidate.name, candidate.version] = metadata.reason
        return metadata

    def stated(self, candidate: Candidate) -> Metadata | SetAside:
        """What the best file of a release says itself, before it is corrected."""
        if isinstance(candidate.offered, SourceTree):
            return candidate.offered.metadata
        file = candidate.offered[0]
        key = (file.source, file.location)
        if key not in self._parsed:
            self._parsed[key] = self._parse_metadata(candidate, file)
        return self._parsed[key]

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

    def _expect_choice(self, need: Need, listing: "Future[Candidates]") -> None:
        """Read ahead the metadata of what the solver will try first."""
        if listing.cancelled() or listing.exception() is not None:
            return
        releases = {one.version: one for one in listing.result().releases if not one.yanked}
        admitted = list(need.specifier.filter(releases))
        if admitted:
            liked = self._policy.likes(need.name)
            choice = next((version for version in liked if version in admitted), max(admitted))
            with suppress(RuntimeError):  # the pool was closed meanwhile: the answer is no longer wanted
                reading = self._reading_metadata(releases[choice])
                reading.add_done_callback(partial(self._expect_needs, need))

    def _expect_needs(self, need: Need, reading: "Future[Metadata | SetAside]") -> None:
        """Read ahead what the probable choice needs for itself and for the extras that are asked for."""
        if reading.cancelled() or reading.exception() is not None:
            return
        metadata = reading.result()
        if not isinstance(metadata, SetAside):
            extras = ["", *need.extras]
            needs = metadata.needs
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

    def locked(self, candidates: Iterable[Candidate]) -> dict[NormalizedName, list[Artifact]]:
        """What the chosen releases can be had from, as it is written into the lock, in the same order."""
        chosen = {one.name: one for one in candidates}
        asked = {
            name: [self._pool.submit(self._locked, file) for file in one.files]
            for name, one in chosen.items()
        }
        what = "sizes and hashes of files"
        return {
            name: [one.offered.locked]
            if isinstance(one.offered, SourceTree)
            else [self._awaited(answer, what) for answer in asked[name]]
            for name, one in chosen.items()
        }

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
        if self._claiming(chosen.name) or chosen.source not in self._sources:
            return []  # of another target, for which the declaration names an address
        able = self._sources_of(chosen.name)
        return able[able.index(self._sources[chosen.source]) + 1 :]

    def _sources_of(self, name: NormalizedName) -> list[Source]:
        """The sources that may serve a library, in order."""
        return self._claiming(name) or [source for source, only in self._given if not only]

    def _claiming(self, name: NormalizedName) -> list[Source]:
        return [
            source
            for source, only in self._given
            if any(fnmatchcase(name, library_name(pattern)) for pattern in only)
        ]

    def _read(self, name: NormalizedName) -> Candidates:
        key = self._listing_key(name)
        if key not in self._listings:
            listings = (source.listing(name) for source in self._sources_of(name))
            self._listings[key] = next((one for one in listings if one is not None), None)
        listing = self._listings[key]
        self._refuse_another_source(name, listing)
        if listing is None:
            return Candidates(name=name, releases=(), known=False)
        may_build = name in self._policy.may_build
        return candidates_for(listing, self._target, as_of=self._policy.as_of, may_build=may_build)

    def _listing_key(self, name: NormalizedName) -> tuple[object, ...]:
        """A library and where it may come from: addresses under a marker count for some targets only."""
        return name, *map(id, self._sources_of(name))

    def _refuse_another_source(self, name: NormalizedName, listing: Listing | None) -> None:
        """A locked library never moves to another source in silence. Raises `SourceFailed`."""
        expected = self._locked_from.get(name)
        able = {source.index: source.name for source in self._sources_of(name)}
        if expected is None or expected not in able:
            return  # it is not locked, or the declaration itself says now that it comes from elsewhere
        found = self._sources[listing.source] if listing is not None else None
        if found is not None and found.index == expected:
            return
        now = f"'{found.name}' lists it now" if found is not None else "no source lists it now"
        raise SourceFailed(
            f"{name} is locked from the source '{able[expected]}', and would not come from there any more",
            because=[f"{expected}{name}/", now],
            remedy=f"rabbet resolve --raise {name}",
        )

    def _read_metadata(self, candidate: Candidate) -> Metadata | SetAside:
        stated = self.stated(candidate)
        return stated if isinstance(stated, SetAside) else self._reading.correct(stated)

    def _parse_metadata(self, candidate: Candidate, file: ListedFile) -> Metadata | SetAside:
        source = self._sources[file.source]
        told = told_key(source.index or file.location, file.sha256) if file.sha256 else ""
        try:
            content = self._recalled(file.sha256, told) if file.sha256 else None
            if content is None:
                content = source.metadata(file)
                if told:
                    self._reading.memory.remember(told, content)
            parse = parse_metadata if file.is_wheel else parse_static_metadata
            metadata = parse(content)
        except MetadataBroken as error:
            return SetAside(version=str(candidate.version), reason=str(error))
        if (metadata.name, metadata.version) != (candidate.name, candidate.version):
            told = f"{metadata.name} {metadata.version}"
            return SetAside(version=str(candidate.version), reason=f"its metadata says that it is {told}")
        return metadata

    def _recalled(self, seen: str, told: str) -> bytes | None:
        """What the wheel itself says, if it was seen before; else what this source told of it."""
        content = self._reading.memory.recall(seen)
        return content if content is not None else self._reading.memory.recall(told)

    def _locked(self, file: ListedFile) -> Artifact:
        return self._sources[file.source].locked(file)
