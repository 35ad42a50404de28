"""The request to resolve, its result, and the policy for one target that follows from it."""

from collections.abc import Mapping
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.target import Target
from rabbet.core.moment import moment_in
from rabbet.core.solve.problem.provider import Policy
from rabbet.workspace.fetching.sources import Sources
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.lock.version_changes import Move

__all__ = ["ResolveRequest", "ResolveResult", "declared_moment", "locked_versions", "policy_for"]


class ResolveRequest(Struct, frozen=True, kw_only=True):
    """One request to resolve: a declaration for targets, with an interpreter of this machine.

    `earlier` are the locks whose versions are kept: usually one, two for an unfinished merge (ours first).
    `preferred` versions outrank those. `building` are the libraries whose build requirements are resolved.
    Libraries of the earlier lock that break a rule are in `broken`, with what is wrong.
    Changes of the declaration are suggested only if it is the one that is `written` in the project's file.
    """

    declaration: Declaration
    variant: str | None
    sources: Sources
    runtime: PythonRuntime
    targets: tuple[Target, ...]
    earlier: tuple[Lock, ...]
    building: frozenset[NormalizedName] = frozenset()
    written: bool = True
    preferred: Mapping[NormalizedName, Version] = field(default_factory=dict)
    broken: Mapping[NormalizedName, str] = field(default_factory=dict)

    def needed(self, target: Target) -> bool:
        """Whether there must be a solution for a target.

        Where no versions of Python are declared but a range, only the lowest and this machine's are needed.
        """
        if self.declaration.pythons:
            return True
        lowest = min((target.python.release[:2] for target in self.targets), default=())
        return target.python.release[:2] in (lowest, self.runtime.version.release[:2])

    @property
    def session(self) -> Session:
        """The project, the machine and the observer."""
        return self.sources.session


class ResolveResult(Struct, frozen=True, kw_only=True):
    """The result of resolving, before anything is written.

    `passed_over` are releases and files that would have been chosen, had they been of use. Each library was
    `taken_from` a source, and other sources may know its name as well (`also_known`). `unused_checkouts` are
    checkouts of libraries that nothing requires, `unhashed` sources that list files without a digest that can
    be trusted, `unused_corrections` what the declaration corrects in vain. `told_here` are builds that were
    asked with this machine's runtime, and are needed for other targets.
    """

    lock: Lock
    moves: "tuple[Move, ...]" = ()
    passed_over: tuple[str, ...] = ()
    also_known: Mapping[NormalizedName, tuple[str, ...]] = field(default_factory=dict)
    unused_checkouts: tuple[NormalizedName, ...] = ()
    unhashed: tuple[str, ...] = ()
    taken_from: Mapping[NormalizedName, str] = field(default_factory=dict)
    unused_corrections: tuple[str, ...] = ()
    unknown_extras: tuple[str, ...] = ()
    by_patch: tuple[str, ...] = ()
    told_here: tuple[str, ...] = ()


def policy_for(
    request: ResolveRequest,
    target: Target,
    options: ResolveOptions,
    chosen: Mapping[NormalizedName, Version] | None = None,
) -> Policy:
    """The policy for one target; `chosen` are the versions that other targets have got already.

    These count only where all are to have the same. Where the sides of a merge have different versions, the
    newer one is tried first. A library that is to be raised gets the newest that this target allows, whatever
    others have got.
    """
    kept: dict[NormalizedName, set[Version]] = {}
    for lock in request.earlier if options.keeps else ():
        for name, version in locked_versions(lock, target).items():
            kept.setdefault(name, set()).add(version)
    names = frozenset(requirement.need.name for requirement in request.declaration.declared())
    liked = {name: tuple(sorted(versions, reverse=True)) for name, versions in kept.items()}
    return Policy(
        kept={name: versions for name, versions in liked.items() if name not in options.raised},
        wanted={
            name: version
            for name, version in request.preferred.items()
            if options.keeps and name not in options.raised
        },
        raised=tuple(name for name in options.raised if name in kept),
        preferred={
            name: (version,)
            for name, version in (chosen or {}).items()
            if request.declaration.same_versions and name not in options.raised
        },
        lowest=names if options.lowest else frozenset(),
        as_of=options.as_of or declared_moment(request.declaration),
        may_build=request.declaration.build_from_source,
        narrowing=request.sources.narrowing({} if options.mend else _spared(request, options)),
    )


def _spared(request: ResolveRequest, options: ResolveOptions) -> Mapping[NormalizedName, set[Version]]:
    """The locked versions, which rules move only to mend; what is to be raised has to meet them."""
    found: dict[NormalizedName, set[Version]] = {}
    for lock in request.earlier if options.keeps else ():
        for library in lock.libraries:
            if library.name not in options.raised:
                found.setdefault(library.name, set()).add(library.version)
    return found


def declared_moment(declaration: Declaration) -> datetime | None:
    """The moment after which no release is taken, if one is declared."""
    return moment_in(declaration.as_of) if declaration.as_of else None


def locked_versions(lock: Lock, target: Target) -> Mapping[NormalizedName, Version]:
    """The locked versions for a target; all of them for a target that the lock does not serve."""
    from rabbet.python.choosing.select import libraries_for  # here: a new project has no lock
    from rabbet.python.choosing.serving import serves

    if not serves(lock, target):
        return lock.versions
    return {library.name: library.version for library in libraries_for(lock, target, lock.everything)}
