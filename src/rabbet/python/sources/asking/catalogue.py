"""Answers to the solver for one target from a project's sources, fetched ahead."""

from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager, suppress
from functools import partial
from threading import Lock

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.lock import Artifact
from rabbet.core.model.release import Candidate, Listing, Metadata, Rejected
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.core.solve.problem.provider import Policy
from rabbet.python.choosing.candidates import candidates_for, likeness, narrowed
from rabbet.python.sources.asking.release_reader import ReleaseReader
from rabbet.python.sources.asking.routing import Routing
from rabbet.work.pools import Asking, at_once

__all__ = ["Catalogue", "SourceQuestion", "opened_catalogue"]

_THREADS = 16


class SourceQuestion(Struct, frozen=True, kw_only=True):
    """A command's question to its sources, for any target, with the files it found unusable.

    `shared` are the candidates that several targets have alike, by their listings, which live as long.
    `told_by_build` gives what only a build can tell of a release, whose file is a source archive.
    """

    routes: Callable[[Target], Routing]
    reader: ReleaseReader
    policy: Policy
    asking: Asking
    told_by_build: Callable[[Candidate, Artifact], Metadata] | None = None
    set_aside: dict[tuple[NormalizedName, Version], str] = field(default_factory=dict)
    shared: dict[tuple[object, ...], Candidates] = field(default_factory=dict)


@contextmanager
def opened_catalogue(
    target: Target,
    routes: Callable[[Target], Routing],
    reader: ReleaseReader,
    policy: Policy,
    waiting: Callable[[str], None],
    told_by_build: Callable[[Candidate, Artifact], Metadata] | None = None,
) -> Iterator["Catalogue"]:
    """A catalogue for a first target, open for as long as its threads are needed.

    `routes` tells which sources count for a target; `waiting` is told what an answer waits for.
    """
    with Asking(_THREADS, waiting) as asking:
        question = SourceQuestion(
            routes=routes, reader=reader, policy=policy, asking=asking, told_by_build=told_by_build
        )
        yield Catalogue(target, question)


class Catalogue:
    """Answers the solver for one target (it is a `Provider`).

    What is likely to be asked next is fetched ahead, by several threads: the listing of a library that
    something needs, the metadata of the release that will probably be chosen, and, where one release after
    the other is refused, that of a growing number of the next older ones. `set_aside` holds the releases that
    were asked for and whose metadata is of no use, with the reasons, on all targets.
    """

    def __init__(self, target: Target, question: SourceQuestion) -> None:
        self.routing = question.routes(target)
        self.asking = question.asking
        self.set_aside = question.set_aside
        self._question = question
        self._reader = question.reader
        self._policy = question.policy
        self._target = target
        self._guard = Lock()
        self._candidates: dict[NormalizedName, Candidates] = {}
        self._needs: dict[tuple[NormalizedName, Version], Metadata | Rejected] = {}
        self._found: dict[NormalizedName, Future[Candidates]] = {}
        self._metadata: dict[tuple[NormalizedName, Version], Future[Metadata | Rejected]] = {}
        self._asked: Counter[NormalizedName] = Counter()

    def for_target(self, target: Target) -> "Catalogue":
        """The same sources for another target; what was read is not read again."""
        return Catalogue(target, self._question)

    def expect(self, needs: Iterable[Need]) -> None:
        """Begin to read the listings that these ask for, the metadata of the likely choices, and so on."""
        for need in needs:
            if need.name not in self._found:
                self._listing(need.name).add_done_callback(partial(self._expect_choice, need))

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target. Raises `SourceFailed`."""
        if name not in self._candidates:
            self._candidates[name] = self.asking.awaited(self._listing(name), f"the listing of {name}")
        return self._candidates[name]

    def listing(self, name: NormalizedName) -> Listing | None:
        """Everything that a library's source lists of it, if any knows it. Raises `SourceFailed`."""
        self.candidates(name)
        return self._reader.listing(name, self.routing.sources_of(name))

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """The metadata of a release's best file. Raises `SourceFailed`, `IntegrityFailed`."""
        key = (candidate.name, candidate.version)
        if key in self._needs:
            return self._needs[key]
        answer = self._reading_metadata(candidate)
        self._expect_older(candidate)
        metadata = self.asking.awaited(answer, f"the metadata of {candidate}")
        if isinstance(metadata, Rejected) and metadata.unbuilt and self._question.told_by_build:
            metadata = self._built_metadata(candidate, self._question.told_by_build)
        if isinstance(metadata, Rejected):
            self.set_aside[candidate.name, candidate.version] = metadata.reason
        self._needs[key] = metadata
        return metadata

    def stated(self, candidate: Candidate) -> Metadata | Rejected:
        """The metadata in a release's best file, uncorrected."""
        return self._reader.stated(candidate, self.routing.file_source)

    def _listing(self, name: NormalizedName) -> "Future[Candidates]":
        with self._guard:
            if name not in self._found:
                sources = self.routing.sources_of(name)
                if self._reader.knows_listing(name, sources):
                    self._found[name] = at_once(partial(self._read, name))
                else:
                    asked = self._reader.ask_listing(name, sources)
                    self._found[name] = self.asking.after(asked, self._read, name)
            return self._found[name]

    def _read(self, name: NormalizedName) -> Candidates:
        listing = self._reader.listing(name, self.routing.sources_of(name))
        self.routing.refuse_another_source(name, listing)
        if listing is None:
            return Candidates(name=name, releases=(), known=False)
        may_build, shared = name in self._policy.may_build, self._question.shared
        key = (id(listing), likeness(listing, self._target))
        if key not in shared:
            untils, narrowing = self._policy.untils(name, listing.source), self._policy.narrowing
            found = candidates_for(listing, self._target, untils=untils, may_build=may_build)
            shared[key] = narrowed(found, narrowing.refusal) if narrowing else found
        return shared[key]

    def _reading_metadata(self, candidate: Candidate) -> "Future[Metadata | Rejected]":
        key = (candidate.name, candidate.version)
        with self._guard:
            if key not in self._metadata:
                self._asked[candidate.name] += 1
                read = partial(self._reader.metadata, candidate, self.routing.file_source)
                if self._reader.knows_metadata(candidate):
                    self._metadata[key] = at_once(read)
                else:
                    asked = self._reader.ask_metadata(candidate, self.routing.file_source)
                    self._metadata[key] = self.asking.after(asked, read)
            return self._metadata[key]

    def _built_metadata(
        self, candidate: Candidate, told_by_build: Callable[[Candidate, Artifact], Metadata]
    ) -> Metadata | Rejected:
        """Metadata from a build; builds are never started ahead. Raises what building raises."""
        with self._guard:
            metadata = self._reader.stated(candidate, self.routing.file_source)
        if isinstance(metadata, Rejected):
            file = candidate.files[0]
            self._reader.tell(
                candidate, told_by_build(candidate, self.routing.file_source(file.source).locked(file))
            )
        return self._reader.metadata(candidate, self.routing.file_source)

    def _expect_choice(self, need: Need, listing: "Future[Candidates]") -> None:
        """Read ahead the metadata of what the solver will try first, unless that was read already."""
        if listing.cancelled() or listing.exception() is not None:
            return
        found = listing.result()
        admitted = found.masks.admitted(need.specifier)
        if admitted:
            liked = self._policy.likes(need.name)
            places = (found.place_of(version) for version in liked)
            choice = next((place for place in places if admitted >> place & 1), admitted.bit_length() - 1)
            if self._reader.knows_metadata(found.releases[choice]):
                return  # whoever asks for it goes on without waiting
            with suppress(RuntimeError):  # the pool was closed meanwhile: the answer is no longer wanted
                reading = self._reading_metadata(found.releases[choice])
                reading.add_done_callback(partial(self._expect_needs, need))

    def _expect_needs(self, need: Need, reading: "Future[Metadata | Rejected]") -> None:
        """Read ahead what the probable choice needs for itself and for the extras that are asked for."""
        if reading.cancelled() or reading.exception() is not None:
            return
        metadata = reading.result()
        if not isinstance(metadata, Rejected):
            extras = ["", *need.extras]
            counting = (
                need
                for need in metadata.needs
                if any(self._target.admits(need.marker, extra) for extra in extras)
            )
            with suppress(RuntimeError):
                self.expect(counting)

    def _expect_older(self, candidate: Candidate) -> None:
        """When a library is asked for again and again, read ahead as many releases as were asked for."""
        ahead = min(self._asked[candidate.name] - 1, _THREADS * 2)
        if ahead > 0:
            releases = self._found[candidate.name].result().releases
            here = bisect_left(releases, candidate.version, key=lambda release: release.version)
            for older in releases[max(0, here - ahead) : here]:
                self._reading_metadata(older)
