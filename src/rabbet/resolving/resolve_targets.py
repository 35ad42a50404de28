"""Resolving: the first questions for the first target, and then all that follows from the answers.

What puts solutions into a lock is loaded while the first answers are on their way.
"""

from collections.abc import Collection, Sequence
from typing import TYPE_CHECKING

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.options import ResolveOptions
from rabbet.core.model.release import Metadata
from rabbet.core.model.target import Target
from rabbet.resolving.build_requirements import BuildQuestions, own_subject
from rabbet.resolving.request import ResolveRequest, ResolveResult, policy_for

if TYPE_CHECKING:
    from rabbet.python.builds.workshop import Workshop

__all__ = ["own_metadata", "resolve_targets"]


def resolve_targets(request: ResolveRequest, options: ResolveOptions) -> ResolveResult:
    """Solve every target, and put the solutions into one lock; nothing is written.

    Raises `NoSolution` with the reasons and with changes that help, `SourceFailed`, `IntegrityFailed`.
    """
    policy = policy_for(request, request.targets[0], options)
    kept = [_without(lock, options.raised) for lock in request.earlier] if options.keeps else []
    builds = _build_questions(request, options)
    with request.sources.catalogue(
        request.declaration, request.targets[0], policy, kept, builds
    ) as catalogue:
        if not request.building:
            request.session.observer.stage("reading listings and metadata")
        declared = [requirement.need for requirement in request.declaration.declared()]
        catalogue.expect(need for need in declared if request.targets[0].admits(need.marker))
        from rabbet.resolving.settling import settled  # here: the first answers are on their way meanwhile

        return settled(request, options, catalogue, builds)


def own_metadata(request: ResolveRequest, options: ResolveOptions) -> Metadata:
    """The project's metadata from its own build. Raises `BuildFailed`, `NoSolution`, `SourceFailed`."""
    return _build_questions(request, options).metadata(own_subject(request.declaration))


def _build_questions(request: ResolveRequest, options: ResolveOptions) -> BuildQuestions:
    """Asks builds of what has no wheel; what these need is settled in the same way."""

    def settle(
        declaration: Declaration,
        earlier: Sequence[Lock],
        targets: tuple[Target, ...],
        building: frozenset[NormalizedName],
    ) -> Lock:
        inner = replace(
            request,
            declaration=declaration,
            earlier=tuple(earlier),
            targets=targets,
            building=building,
            written=False,
        )
        return resolve_targets(inner, options._replace(lowest=False)).lock  # that is about declared bounds

    def open_workshop() -> "Workshop":
        from rabbet.workspace.fetching.composing import workshop_for  # here: few libraries have to be built

        return workshop_for(request.session, request.runtime)

    return BuildQuestions(request.declaration, request.earlier, open_workshop, settle, request.building)


def _without(lock: Lock, names: Collection[NormalizedName]) -> Lock:
    return replace(lock, libraries=tuple(library for library in lock.libraries if library.name not in names))
