"""Why a library is in the lock, and what holds it back."""

from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, replace

from packaging.requirements import Requirement
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.lock.graph import Graph, Holder, build_graph, held_back
from rabbet.core.lock.select import libraries_for
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.model.release import SetAside
from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.core.targets import target_of
from rabbet.errors import WrongUsage
from rabbet.formats.metadata import MetadataBroken, parse_metadata
from rabbet.sources.catalogue import Catalogue, told_key
from rabbet.store.memory import Memory
from rabbet.tasks.catalogue import open_sources
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime, found_runtimes

__all__ = ["Explained", "explain", "explain_all"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Explained:
    """The graph of the lock, and of the libraries that were asked about, what holds each back."""

    graph: Graph
    holders: tuple[Holder, ...]
    outdated: bool


def explain(project: Project, machine: Machine, observer: Observer, name: str) -> Explained:
    """Explain one library.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `SourceFailed`; `WrongUsage` for one that is not locked.
    """
    wanted = canonicalize_name(name)
    known = [library.name for library in project.lock().libraries]
    if wanted not in known:
        raise WrongUsage(
            f"'{name}' is not in the lock",
            because=[f"locked are: {', '.join(known)}"],
            remedy="rabbet explain",
        )
    return _explained(project, machine, observer, [wanted])


def explain_all(project: Project, machine: Machine, observer: Observer, *, holders: bool) -> Explained:
    """Explain the whole lock; with `holders`, what holds each library back as well."""
    names = [library.name for library in project.lock().libraries] if holders else []
    return _explained(project, machine, observer, names)


def _explained(
    project: Project, machine: Machine, observer: Observer, names: Iterable[NormalizedName]
) -> Explained:
    declaration, lock = project.declaration(), project.lock()
    target = target_of(chosen_runtime(declaration, found_runtimes(machine), lock))
    lock = replace(lock, libraries=libraries_for(lock, target, lock.everything))
    policy = Policy(preferred={name: (version,) for name, version in lock.versions.items()})
    sources = open_sources(project, machine, declaration)
    with sources.catalogue(declaration, target, policy, observer) as catalogue:
        observer.stage("reading what releases need")
        needs = _needs_of(lock, machine.store().metadata, catalogue)
        graph = build_graph(declaration, lock, target, needs)
        catalogue.expect(Requirement(name) for name in names)
        found = [_holder(graph, name, catalogue, target) for name in names if name in graph.libraries]
    return Explained(
        graph=graph,
        holders=tuple(one for one in found if one is not None),
        outdated=lock.fingerprint != declaration.fingerprint(),
    )


def _holder(graph: Graph, name: NormalizedName, catalogue: Catalogue, target: Target) -> Holder | None:
    candidates = catalogue.candidates(name)

    def needs(version: Version) -> Iterable[Requirement]:
        release = next(one for one in candidates.releases if one.version == version)
        metadata = catalogue.metadata(release)
        return () if isinstance(metadata, SetAside) else metadata.requirements

    return held_back(graph, name, candidates, needs, target)


def _needs_of(
    lock: Lock, memory: Memory, catalogue: Catalogue
) -> Callable[[LockedLibrary], Iterable[Requirement]]:
    """Requirements from what was remembered of the locked wheels; only what is missing is asked for anew."""

    def needs(library: LockedLibrary) -> Iterable[Requirement]:
        for wheel in library.wheels:
            content = _recalled(memory, library, wheel.sha256)
            if content is not None:
                with suppress(MetadataBroken):
                    return parse_metadata(content).requirements
        for release in catalogue.candidates(library.name).releases:
            if release.version == library.version:
                metadata = catalogue.metadata(release)
                return () if isinstance(metadata, SetAside) else metadata.requirements
        return (Requirement(name) for name in library.dependencies)

    versions = lock.versions
    catalogue_needed = [
        one for one in lock.libraries if not any(_recalled(memory, one, w.sha256) for w in one.wheels)
    ]
    catalogue.expect(Requirement(f"{one.name}=={versions[one.name]}") for one in catalogue_needed)
    return needs


def _recalled(memory: Memory, library: LockedLibrary, sha256: str) -> bytes | None:
    """What a locked wheel says itself, if it was seen, else what its source told of it."""
    content = memory.recall(sha256)
    if content is not None or library.index is None:
        return content
    return memory.recall(told_key(library.index, sha256))
