"""The libraries of a trial, beside the locked ones."""

from collections.abc import Callable, Iterable, Mapping

from msgspec import Struct
from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.model.lock import Needed, ToInstall, Unbuilt
from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.python.builds.identity import identified
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import target_of
from rabbet.resolving.request import ResolveRequest
from rabbet.resolving.resolve_targets import resolve_targets
from rabbet.trials.trial import TrialSummary, Wish
from rabbet.trials.wish import widened
from rabbet.workspace.fetching.sources import open_sources
from rabbet.workspace.looking.comparison import LockedState, question
from rabbet.workspace.session import Session

__all__ = ["Settled", "settle_trial"]


class Settled(Struct, frozen=True, kw_only=True):
    """A settled trial: the locked state it starts from, the libraries to install, and a summary.

    Where it is `layered`, the project's environment serves for the rest.
    """

    asked: LockedState
    wanted: tuple[ToInstall, ...]
    layered: bool
    tried: TrialSummary


def settle_trial(session: Session, wish: Wish, fits: Callable[[], bool]) -> Settled:
    """Solve what is declared and what is to be tried for this machine, keeping what is locked.

    `fits` tells whether the project's environment is there, and as the lock has it.
    Raises `NoLock`, `NoSolution`, `SourceFailed`, `WrongUsage`, and what builds raise.
    """
    asked = question(session, RecreateOptions())
    declaration, keeping = widened(asked.declaration, session, wish)
    target = target_of(asked.runtime)
    request = ResolveRequest(
        declaration=declaration,
        variant=session.project.variant,
        sources=open_sources(session, declaration, always=True),
        runtime=asked.runtime,
        targets=(target,),
        earlier=(replace(asked.lock, runtimes=()),),
        written=False,
    )
    lock = resolve_targets(request, ResolveOptions()).lock
    after = needed(lock, target, asked.selection, declaration)
    after = tuple(identified(library, asked.runtime, session.project.folder) for library in after)
    before = {library.locked.name: library for library in asked.needed}
    differing = [library for library in after if not _same(before.get(library.locked.name), library)]
    own = [library for library in asked.needed if isinstance(library, Unbuilt) and library.own]
    gone = before.keys() - {library.locked.name for library in (*after, *own)}
    additions = not gone and all(library.locked.name not in before for library in differing)
    layered = additions and fits()
    tried = TrialSummary(
        [
            (library.locked.name, str(library.locked.version))
            for library in differing
            if library.locked.name not in before
        ],
        [
            *_changes(before, differing),
            *((name, str(before[name].locked.version), "") for name in sorted(gone)),
        ],
        keeping if differing or gone else "",
    )
    wanted = tuple(differing) if layered else (*after, *own)
    return Settled(asked=asked, wanted=wanted, layered=layered, tried=tried)


def _same(before: ToInstall | None, after: ToInstall) -> bool:
    """Whether the same would be installed."""
    if isinstance(before, Unbuilt) and isinstance(after, Unbuilt):
        return before.digest == after.digest
    both = isinstance(before, Needed) and isinstance(after, Needed)
    return both and before.artifact.sha256 == after.artifact.sha256  # type: ignore[union-attr]


def _changes(
    before: Mapping[NormalizedName, ToInstall], after: Iterable[ToInstall]
) -> list[tuple[str, str, str]]:
    """Name, version before and version after of what is locked and would be another release."""
    known = [
        (before[library.locked.name].locked, library.locked)
        for library in after
        if library.locked.name in before
    ]
    return [(new.name, str(old.version), str(new.version)) for old, new in known]
