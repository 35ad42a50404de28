"""The requirements and metadata of builds while a lock is made, and their locked releases.

A build is settled like a project of its own: its requirements from the same sources, under the same limits
and on the same date, with the versions that the lock before has for it. What has to be built for
a build comes along.
"""

import json
from collections.abc import Callable, Sequence
from contextlib import suppress
from functools import cached_property, partial
from threading import RLock
from typing import TYPE_CHECKING, Protocol

from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.build import BuildKind, BuildOptions
from rabbet.core.model.lock import (
    OWN_FOLDER,
    Artifact,
    BuildSource,
    Lock,
    LockedBuild,
    LockedCheckout,
    LockedCommit,
    LockedLibrary,
    LockedWheel,
    Needed,
    Unbuilt,
    is_own_folder,
    kind_built_from,
)
from rabbet.core.model.release import Candidate, Metadata
from rabbet.core.model.target import Target
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import need_text
from rabbet.errors import BuildFailed
from rabbet.formats.text.requirement import parse_requirement
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import target_of
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, whole
from rabbet.python.sources.asking.release_reader import reported_metadata_key
from rabbet.python.sources.base import Memory

if TYPE_CHECKING:
    from rabbet.python.builds.backend import Backend
    from rabbet.python.builds.workshop import Workshop

__all__ = ["BuildQuestions", "Subject", "own_subject"]


class _Ask(Protocol):
    """Asks a back end that runs in an environment of these libraries."""

    def __call__(self, backend: "Backend", environment: Sequence[Needed], /) -> bytes:
        """Its answer. Raises `BuildFailed`."""


class Settle(Protocol):
    """Solves a declaration."""

    def __call__(
        self,
        declaration: Declaration,
        earlier: Sequence[Lock],
        targets: tuple[Target, ...],
        building: frozenset[NormalizedName],
    ) -> Lock:
        """One lock for all targets. Raises `NoSolution`, `SourceFailed`, `IntegrityFailed`."""


class Subject(Struct, frozen=True, kw_only=True):
    """Something to be built: `what` it is called, its sources, and whose they are."""

    name: NormalizedName
    what: str
    source: BuildSource
    own: bool = False

    @property
    def kind(self) -> BuildKind:
        """The kind of build result."""
        return kind_built_from(self.source)

    def allowed(self, declaration: Declaration) -> bool:
        """Whether the declaration allows to build it: a checkout is the user's own to begin with."""
        return isinstance(self.source, LockedCheckout) or self.name in declaration.build_from_source

    @property
    def identity(self) -> str:
        """The identity of its sources; empty when they may change."""
        if isinstance(self.source, LockedCheckout):
            return ""
        if isinstance(self.source, LockedCommit):
            return f"{self.source.commit} {self.source.subdirectory}"
        return self.source.sha256


def own_subject(declaration: Declaration) -> Subject:
    """The project itself."""
    name = library_name(declaration.name)
    source = LockedCheckout(path=OWN_FOLDER, editable=declaration.editable)
    return Subject(name=name, what=name, source=source, own=True)


class BuildQuestions:
    """Asks builds, each thing once; may be used from many threads.

    `settle` solves a declaration for targets, keeping what earlier locks hold, while those libraries are
    being built. The workshop is opened when it is first needed. What archives and commits told is remembered
    between runs.
    """

    def __init__(
        self,
        declaration: Declaration,
        earlier: Sequence[Lock],
        open_workshop: Callable[[], "Workshop"],
        settle: Settle,
        building: frozenset[NormalizedName] = frozenset(),
    ) -> None:
        self._declaration = declaration
        self._earlier = earlier
        self._open_workshop = open_workshop
        self._settle = settle
        self._building = building
        self._guard = RLock()
        self._asked: dict[Subject, tuple[Need, ...]] = {}
        self._settled: dict[tuple[object, ...], Lock] = {}

    def of_release(self, candidate: Candidate, artifact: Artifact) -> Metadata:
        """The metadata of a release that is a source archive. Raises as `metadata` does."""
        if isinstance(artifact, LockedWheel):
            raise TypeError(artifact)
        return self.metadata(Subject(name=candidate.name, what=str(candidate), source=artifact))

    def of_tree(self, name: NormalizedName, tree: LockedCommit | LockedCheckout) -> Metadata | None:
        """The metadata of a commit or a checkout; `None` where it may not be built. Raises as `metadata`."""
        subject = Subject(name=name, what=name, source=tree, own=is_own_folder(tree))
        return self.metadata(subject) if subject.allowed(self._declaration) else None

    def metadata(self, subject: Subject) -> Metadata:
        """Its wheel's metadata. Raises `BuildFailed`, `NoSolution`, `SourceFailed`, `IntegrityFailed`."""
        key = self._key("metadata", subject)
        with self._guard:
            content = self._memory.recall(key) if key else None
            if content is None:
                content = self._told(subject, partial(self._metadata_from, subject))
                if key:
                    self._memory.remember(key, content)
        try:
            return whole(parse_metadata(content))
        except MetadataBroken as error:
            raise BuildFailed(f"{subject.what} can't be built", because=[str(error)]) from error

    def locked(
        self, subject: Subject, version: Version | None, targets: tuple[Target, ...]
    ) -> tuple[LockedBuild, ...]:
        """Its locked build requirements on these targets, nested builds included. Raises as `metadata`."""
        with self._guard:
            requires = self._requires(subject)
            lock = self._settled_for(subject, requires, targets)
        texts = {need_text(need, whole=True) for need in requires}
        build = LockedBuild(
            name=subject.name,
            version=version,
            requires=tuple(sorted(texts)),
            libraries=lock.libraries,
            own=subject.own,
            editable=not subject.own or subject.kind == "editable",
            options=replace(self._options(subject), needs=()),
        )
        return (build, *lock.builds)

    @cached_property
    def _workshop(self) -> "Workshop":
        return self._open_workshop()

    def _options(self, subject: Subject) -> BuildOptions:
        """The declared options of this build."""
        return self._declaration.builds.get(subject.name, BuildOptions())

    @property
    def _memory(self) -> Memory:
        return self._workshop.fetcher.store.metadata

    def _key(self, question: str, subject: Subject) -> str:
        """The cache key of an answer; empty if it must not be cached."""
        runtime = self._workshop.runtime
        teller = f"{question} of a build with {runtime.distributor} {runtime.minor}"
        facts = self._options(subject).facts
        teller += f" and {json.dumps(facts)}" if facts else ""
        return reported_metadata_key(teller, subject.identity) if subject.identity else ""

    def _requires(self, subject: Subject) -> tuple[Need, ...]:
        """The build requirements of the sources and of the back end."""
        key = self._key("requirements", subject)
        content = self._memory.recall(key) if key and subject not in self._asked else None
        if content is not None:
            self._asked[subject] = tuple(parse_requirement(line) for line in content.decode().splitlines())
        if subject not in self._asked:
            self._told(subject, lambda *_: b"")
        return self._asked[subject]

    def _told(self, subject: Subject, ask: _Ask) -> bytes:
        """The answer of a back end that has all that it asks for; what that is, is known afterwards."""
        from rabbet.python.builds.workshop import opened  # here: few libraries have to be built

        self._workshop.fetcher.observer.stage(f"asking the build of {subject.what} what it needs")
        options = self._options(subject)
        with opened(subject.what, subject.source, self._workshop, options) as sources:
            first = (*sources.code.system.requires, *options.needs)
            environment = self._environment(subject, first)
            with sources.backend(environment) as backend:
                more = tuple(need for need in backend.requirements(subject.kind) if need not in first)
                self._asked[subject] = (*first, *more)
                key = self._key("requirements", subject)
                if key:
                    lines = "".join(f"{need_text(need, whole=True)}\n" for need in (*first, *more))
                    self._memory.remember(key, lines.encode())
                if not more:
                    return ask(backend, environment)
            environment = self._environment(subject, (*first, *more))
            with sources.backend(environment) as backend:
                return ask(backend, environment)

    def _metadata_from(self, subject: Subject, backend: "Backend", environment: Sequence[Needed]) -> bytes:
        """From a hook for it, else out of a wheel that is built for that; a release's wheel is kept."""
        content = backend.metadata()
        if content is not None:
            return content
        from rabbet.python.builds.building import keep_wheel
        from rabbet.python.builds.identity import digest_of
        from rabbet.python.sources.files.archive_metadata import metadata_in

        wheel, shop = backend.build("wheel"), self._workshop
        with wheel.open("rb") as file:
            content = metadata_in(file)
        if subject.identity:
            with suppress(MetadataBroken):  # the reader reports it
                unbuilt = Unbuilt(
                    locked=LockedLibrary(name=subject.name, version=parse_metadata(content).version),
                    source=subject.source,
                    environment=tuple(environment),
                    options=replace(self._options(subject), needs=()),
                )
                digest = digest_of(unbuilt, shop.runtime, shop.fetcher.folder)
                keep_wheel(wheel, replace(unbuilt, digest=digest), shop)
        return content

    def _environment(self, subject: Subject, requires: Sequence[Need]) -> list[Needed]:
        """The libraries of an environment for a build on this machine; what has no wheel is built."""
        from rabbet.python.builds.building import built
        from rabbet.python.builds.identity import identified

        shop = self._workshop
        target = target_of(shop.runtime)
        lock = self._settled_for(subject, requires, (target,))
        found = needed(lock, target, lock.everything, self._of_build(subject, requires))
        found = tuple(identified(library, shop.runtime, shop.fetcher.folder) for library in found)
        unbuilt = [library for library in found if isinstance(library, Unbuilt)]
        return [*(library for library in found if isinstance(library, Needed)), *built(unbuilt, shop)]

    def _settled_for(self, subject: Subject, requires: Sequence[Need], targets: tuple[Target, ...]) -> Lock:
        key = (subject.name, frozenset(map(str, requires)), targets)
        if key not in self._settled:
            alike = (
                (lock, build)
                for lock in self._earlier
                for build in lock.builds
                if (build.name, build.own) == (subject.name, subject.own)
            )
            earlier = [replace(lock, libraries=build.libraries) for lock, build in alike]
            building = self._building | {subject.name}
            self._settled[key] = self._settle(self._of_build(subject, requires), earlier, targets, building)
        return self._settled[key]

    def _of_build(self, subject: Subject, requires: Sequence[Need]) -> Declaration:
        """A build as a project of its own. What is being built can't be built for that, too."""
        declaration, building = self._declaration, self._building | {subject.name}
        return replace(
            declaration,
            name=f"the build of {subject.what}",
            needs=tuple(requires),
            groups={},
            extras={},
            variants={},
            local={name: path for name, path in declaration.local.items() if name not in building},
            build_from_source=declaration.build_from_source - building,
            runtimes=(),
            catalogues=(),
            build_system=None,
        )
