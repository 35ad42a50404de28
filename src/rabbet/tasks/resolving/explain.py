"""Why a library is in the lock, and what holds it back."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, suppress

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.corrections import corrected, corrections_of
from rabbet.core.declaration.model import Declaration, Declared
from rabbet.core.graph.graph import Graph, build_graph
from rabbet.core.graph.held_back import Holder, held_back
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.release import Rejected
from rabbet.core.model.target import Target
from rabbet.core.near_names import near_names
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import build_options_texts, need_text
from rabbet.core.solve.explain.prose import explained
from rabbet.core.solve.problem.provider import Policy
from rabbet.core.solve.solver import Refutation, solve
from rabbet.errors import SourceFailed, WrongUsage
from rabbet.python.choosing.select import libraries_for
from rabbet.python.choosing.serving import refuse_unserved
from rabbet.python.choosing.targets import target_of
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, whole
from rabbet.python.sources.asking.catalogue import Catalogue
from rabbet.python.sources.asking.release_reader import remembered_metadata
from rabbet.python.sources.base import Memory
from rabbet.resolving.request import declared_moment
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of, targets_for
from rabbet.workspace.session import Session

__all__ = ["Elsewhere", "Explained", "Needs", "explain", "explain_all", "remembered_needs"]

Needs = Callable[[LockedLibrary], Iterable[Need]]


class Explained(Struct, frozen=True, kw_only=True):
    """The graph of the lock, and of the libraries that were asked about, what holds each back.

    `notes` tell what else the declaration says of these. `unasked` is why sources could not be asked: then
    only the lock's own edges are known, as far as nothing more is remembered, and nothing of what holds back.
    Of one library that was asked about, `elsewhere` tells the versions that other targets have.
    """

    graph: Graph
    holders: tuple[Holder, ...]
    notes: tuple[str, ...]
    outdated: bool
    unasked: str = ""
    elsewhere: tuple["Elsewhere", ...] = ()


class Elsewhere(Struct, frozen=True, kw_only=True):
    """Another version of a library, where it is locked (a marker), and what holds it back there."""

    version: Version
    where: str
    holder: Holder | None


def explain(session: Session, name: NormalizedName) -> Explained:
    """Explain one library.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`; `WrongUsage` for one that is not locked.
    """
    lock = session.lock()
    if name not in lock.versions:
        raise _not_locked(name, lock)
    found = _explained(session, [name])
    here = found.graph.libraries.get(name)
    others = [
        library
        for library in lock.libraries
        if library.name == name and (here is None or library.version != here.version)
    ]
    return replace(found, elsewhere=tuple(_elsewhere(session, others)))


def _elsewhere(session: Session, others: Sequence[LockedLibrary]) -> Iterator[Elsewhere]:
    """The versions of a library that are locked for other targets; why, as far as sources can be asked."""
    if not others:
        return
    declaration, lock = session.declaration(), session.lock()
    targets = targets_for(declaration, chosen_runtime(declaration, pythons_of(session), lock))
    for other in others:
        holder = None
        for target in targets:
            part = replace(lock, libraries=libraries_for(lock, target, lock.everything))
            if other in part.libraries:
                with suppress(SourceFailed):
                    holder = _held_on(target, part, other.name, session)
                break
        yield Elsewhere(version=other.version, where=other.marker or "", holder=holder)


def _held_on(target: Target, lock: Lock, name: NormalizedName, session: Session) -> Holder | None:
    """Why a library is not at its newest release on a target. Raises `SourceFailed`."""
    declaration = session.declaration()
    with _catalogue(session, declaration, lock, target) as catalogue:
        needs = _asked_needs(lock, session.machine.metadata, catalogue, declaration)
        graph = build_graph(declaration, lock, target, needs)
        return _Held(graph, catalogue, declaration, target).holder(name)


def _not_locked(name: NormalizedName, lock: Lock) -> WrongUsage:
    """The error for a library that is not among those of the project."""
    building = [
        f"{build.name} is built with {name} {library.version}"
        for build in lock.builds
        for library in build.libraries
        if library.name == name
    ]
    if building:
        note = "libraries of builds are in no environment; what a build asks for stands in the lock"
        return WrongUsage(f"'{name}' is not a library of the project", because=building, note=note)
    near = near_names(name, lock.versions)
    return WrongUsage(
        f"'{name}' is not in the lock",
        because=[f"near names: {', '.join(near)}"] if near else [],
        remedy=f"rabbet explain {near[0]}" if near else "rabbet explain",
    )


def explain_all(session: Session, *, holders: bool) -> Explained:
    """Explain the whole lock; with `holders`, what holds each library back as well."""
    names = [library.name for library in session.lock().libraries] if holders else []
    return _explained(session, names)


def _explained(session: Session, names: Sequence[NormalizedName]) -> Explained:
    declaration, lock = session.declaration(), session.lock()
    runtime = chosen_runtime(declaration, pythons_of(session), lock)
    target = target_of(runtime)
    refuse_unserved(lock, target, declaration)
    # as it was resolved for: with the baselines in place of this machine's own age
    alike = (other for other in targets_for(declaration, runtime) if other.environment == target.environment)
    target = next(alike, target)
    lock = replace(lock, libraries=libraries_for(lock, target, lock.everything))
    memory = session.machine.metadata
    outdated = lock.fingerprint != declaration.fingerprint()
    session.observer.stage("reading what releases need")
    try:
        with _catalogue(session, declaration, lock, target) as catalogue:
            graph = build_graph(declaration, lock, target, _asked_needs(lock, memory, catalogue, declaration))
            catalogue.expect(Need(name) for name in names)
            held = _Held(graph, catalogue, declaration, target)
            found = [held.holder(name) for name in names if name in graph.libraries]
            unasked = ""
    except SourceFailed as error:
        if names and len(names) == len(lock.libraries):
            raise
        graph = build_graph(declaration, lock, target, remembered_needs(memory, declaration))
        found, unasked = [], "; ".join([str(error), *error.because])
    return Explained(
        graph=graph,
        holders=tuple(holder for holder in found if holder is not None),
        notes=tuple(_notes(declaration, graph, names)),
        outdated=outdated,
        unasked=unasked,
    )


def _catalogue(
    session: Session,
    declaration: Declaration,
    lock: Lock,
    target: Target,
) -> AbstractContextManager[Catalogue]:
    sources = open_sources(session, declaration)
    locked = {name: (version,) for name, version in lock.versions.items()}
    policy = Policy(
        preferred=locked,
        as_of=declared_moment(declaration),
        narrowing=sources.narrowing(locked),
    )
    return sources.catalogue(declaration, target, policy)


def _notes(declaration: Declaration, graph: Graph, names: Iterable[NormalizedName]) -> Iterator[str]:
    """Notes on these libraries: limits, corrections and options of the declaration, and yanked releases."""
    for name in names:
        library = graph.libraries.get(name)
        if library is None:
            continue
        for limit in declaration.limits:
            if limit.name == name:
                yield f"{graph.project} sets the limit {need_text(limit)}."
        if name in declaration.builds:
            yield f"Its build gets: {', '.join(build_options_texts(declaration.builds[name]))}."
        for correction in corrections_of(declaration, name, library.version):
            yield f"Corrected in pyproject.toml: {correction}."
        if library.yanked is not None:
            yield f"{name} {library.version} was yanked: {library.yanked or 'no reason is given'}."


class _Held:
    """Tells what holds libraries back: asks for the newest release, and looks at what does not go with it."""

    def __init__(self, graph: Graph, catalogue: Catalogue, declaration: Declaration, target: Target) -> None:
        self._graph = graph
        self._catalogue = catalogue
        self._declaration = declaration
        self._target = target

    def holder(self, name: NormalizedName) -> Holder | None:
        """Why one library is not at its newest release; `None` if it is."""

        def own_reasons(version: Version) -> Iterator[str]:
            return self._own_reasons(name, version)

        candidates = self._catalogue.candidates(name)
        limits = [limit for limit in self._declaration.limits if self._target.admits(limit.marker)]
        return held_back(self._graph, name, candidates, limits, own_reasons)

    def _own_reasons(self, name: NormalizedName, version: Version) -> Iterator[str]:
        """Why a release does not go with what is locked: it can't be used, or needs what is not to be had."""
        release = next(
            candidate
            for candidate in self._catalogue.candidates(name).releases
            if candidate.version == version
        )
        metadata = self._catalogue.metadata(release)
        if isinstance(metadata, Rejected):
            yield f"{name} {version} can't be used: {metadata.reason}"
            return
        told = not metadata.requires_python.contains(self._target.python, prereleases=True)
        if told:
            yield f"{name} {version} needs Python {metadata.requires_python}"
        asked = self._graph.asking_for(name)
        extras = {"", *(extra for ask in asked for extra in ask.need.extras)}
        for need in metadata.needs:
            if any(self._target.admits(need.marker, extra) for extra in extras):
                reason = self._unmet(need)
                if reason:
                    told = True
                    yield f"{name} {version} needs {need_text(need, marker=False)}, {reason}"

        if not told:
            yield from self._clash(name, version)

    def _clash(self, name: NormalizedName, version: Version) -> Iterator[str]:
        """Why there is no solution with that release, if there is none: what comes along may clash."""
        wish = Declared(need=Need(name, SpecifierSet(f"=={version}")), limit=True)
        answer = solve(self._catalogue, self._target, [*self._declaration.asked(), wish])
        if isinstance(answer, Refutation):
            for sentence in explained(answer, self._graph.project).sentences:
                yield sentence.replace(f"{self._graph.project} sets the limit {name}=={version}", "Take it")

    def _unmet(self, need: Need) -> str | None:
        """Why a need is not met by what is locked, nor by what could come in, if it is not."""
        other = need.name
        locked = self._graph.libraries.get(other)
        if locked is not None:
            met = need.specifier.contains(locked.version, prereleases=True)
            return None if met else f"locked is {locked.version}"
        found = self._catalogue.candidates(other)
        if not found.known:
            return "which no source knows"
        return None if found.masks.admitted(need.specifier) else "of which no release can be used here"


def remembered_needs(memory: Memory, declaration: Declaration) -> Needs:
    """Requirements from cached metadata of the locked wheels; for others the lock's own edges."""

    def needs(library: LockedLibrary) -> Iterable[Need]:
        found = _remembered(memory, library, declaration)
        return [Need(name) for name in library.dependencies] if found is None else found

    return needs


def _remembered(memory: Memory, library: LockedLibrary, declaration: Declaration) -> Sequence[Need] | None:
    for content in remembered_metadata(memory, replace(library, artifacts=library.wheels)):
        with suppress(MetadataBroken):
            return whole(corrected(parse_metadata(content), declaration)).needs
    return None


def _asked_needs(lock: Lock, memory: Memory, catalogue: Catalogue, declaration: Declaration) -> Needs:
    """Requirements from cached metadata; only what is missing is asked for."""
    remembered = {library.name: _remembered(memory, library, declaration) for library in lock.libraries}

    def needs(library: LockedLibrary) -> Iterable[Need]:
        known = remembered[library.name]
        if known is not None:
            return known
        for release in catalogue.candidates(library.name).releases:
            if release.version == library.version:
                metadata = catalogue.metadata(release)
                return () if isinstance(metadata, Rejected) else metadata.needs
        return [Need(name) for name in library.dependencies]

    missing = [library for library in lock.libraries if remembered[library.name] is None]
    catalogue.expect(Need(library.name, SpecifierSet(f"=={library.version}")) for library in missing)
    return needs
