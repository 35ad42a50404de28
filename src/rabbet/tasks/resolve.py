"""Settling every version: declaration and sources → a lock."""

import difflib
from collections.abc import Collection, Mapping
from dataclasses import dataclass

from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import Version

from rabbet.core.lock.build import build_lock
from rabbet.core.lock.select import serves
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.target import Target
from rabbet.core.solve.derivation import clash, reasons
from rabbet.core.solve.solver import Refutation, solve
from rabbet.core.targets import target_of
from rabbet.errors import NoSolution, NotUnderstood, WrongUsage
from rabbet.formats.pylock import write_lock
from rabbet.sources.catalogue import Catalogue
from rabbet.sources.http import HttpClient
from rabbet.sources.opening import open_source
from rabbet.store.atomic import write_text
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime
from rabbet.tasks.settings import known_sources

__all__ = ["Move", "Resolved", "resolve"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """One library's version before and after; `None` where it was not, or is no longer, in the lock."""

    name: NormalizedName
    before: Version | None
    after: Version | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Resolved:
    """The lock, what moved against the one before, and whether there was anything to do at all."""

    lock: Lock
    target: Target
    moves: tuple[Move, ...]
    untouched: bool


def resolve(
    project: Project,
    machine: Machine,
    observer: Observer,
    *,
    raised: Collection[str] = (),
    raise_all: bool = False,
) -> Resolved:
    """Write the lock that the declaration asks for, for this machine's target.

    What is locked stays as long as the declaration allows it; `raised` libraries (or all) are free to move.
    A lock that is up to date is left alone, byte for byte.

    Raises `NoSolution`, `SourceFailed`, `NoRuntime`, `NotUnderstood`, `CannotWrite`.
    """
    declaration = project.declaration()
    before = _lock_before(project, must_be_readable=not raise_all)
    free = _free(before, raised)
    observer.stage("looking for a runtime")
    runtime = chosen_runtime(declaration, machine, None if raise_all else before)
    target = target_of(runtime)
    if before is not None and not raise_all and not free and _up_to_date(before, declaration, target):
        return Resolved(lock=before, target=target, moves=(), untouched=True)
    versions = before.versions if before else {}
    preferred = {} if raise_all else {name: one for name, one in versions.items() if name not in free}
    client = HttpClient(machine.environ)
    sources = [
        open_source(entry, project=project.folder, client=client)
        for entry in (known_sources(declaration, machine) if any(declaration.declared()) else ())
    ]
    memory = machine.store().metadata
    with Catalogue(sources, target, memory, preferred=preferred, reading=observer.step) as catalogue:
        observer.stage("reading listings and metadata")
        answer = solve(catalogue, target, list(declaration.declared()), preferred=preferred)
        if isinstance(answer, Refutation):
            raise _no_solution(answer, declaration, catalogue, target)
        observer.stage("noting files and hashes")
        wheels = catalogue.locked(answer.chosen.values())
    lock = build_lock(declaration, runtime, answer, wheels, catalogue.indexes)
    untouched = before is not None and write_lock(before) == write_lock(lock)
    if not untouched:
        write_text(project.lock_file, write_lock(lock))
    return Resolved(lock=lock, target=target, moves=_moves(versions, lock.versions), untouched=untouched)


def _lock_before(project: Project, *, must_be_readable: bool) -> Lock | None:
    try:
        return project.lock() if project.lock_file.exists() else None
    except NotUnderstood:
        if must_be_readable:
            raise
        return None


def _free(before: Lock | None, raised: Collection[str]) -> frozenset[NormalizedName]:
    """The libraries that may leave their locked version. Raises `WrongUsage` for one that is not locked."""
    names = frozenset(canonicalize_name(name) for name in raised)
    unknown = sorted(names - set(before.versions if before else ()))
    if unknown:
        raise WrongUsage(f"'{unknown[0]}' is not in the lock, so it can't be raised", remedy="rabbet resolve")
    return names


def _up_to_date(lock: Lock, declaration: Declaration, target: Target) -> bool:
    return lock.fingerprint == declaration.fingerprint() and serves(lock, target)


def _no_solution(
    refutation: Refutation, declaration: Declaration, catalogue: Catalogue, target: Target
) -> NoSolution:
    for one in declaration.declared():
        name = canonicalize_name(one.requirement.name)
        if target.admits(one.requirement.marker) and not catalogue.candidates(name).known:
            near = difflib.get_close_matches(name, catalogue.all_names(), n=3)
            return NoSolution(
                f"no source knows a library named '{name}'",
                because=[f"near names: {', '.join(near)}"] if near else [],
                remedy=f"rabbet retract {name} && rabbet declare {near[0]}" if near else "check its spelling",
            )
    return NoSolution(
        f"no set of releases meets all requirements: they clash on {', '.join(clash(refutation))}",
        because=reasons(refutation, declaration.name),
        remedy="loosen one of these requirements with: rabbet declare",
    )


def _moves(
    before: Mapping[NormalizedName, Version], after: Mapping[NormalizedName, Version]
) -> tuple[Move, ...]:
    return tuple(
        Move(name=name, before=before.get(name), after=after.get(name))
        for name in sorted({*before, *after})
        if before.get(name) != after.get(name)
    )
