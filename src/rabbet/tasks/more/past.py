"""The versions in the lock's revisions in git."""

from collections.abc import Iterator, Mapping
from pathlib import Path

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.drift.since import LockRevision, RevisionChanges, changes_of, newest_first
from rabbet.core.near_names import near_names
from rabbet.core.shell import quoted
from rabbet.disk.text_file import read_text
from rabbet.errors import NoLock, WrongUsage
from rabbet.formats.lock_text import read_locked_versions
from rabbet.workspace.session import Session
from rabbet.workspace.states.lock_history import lock_history

__all__ = ["Past", "past"]


class Past(Struct, frozen=True, kw_only=True):
    """The revisions that changed versions, of all libraries or the `asked` one, the newest first.

    `versions` are what today's lock holds of that one, and `revisions_read` all that were looked at.
    """

    asked: NormalizedName | None
    versions: tuple[str, ...]
    revisions: tuple[RevisionChanges, ...]
    revisions_read: int


def past(session: Session, asked: NormalizedName | None = None) -> Past:
    """Read the revisions of the lock in git, and tell what each of them changed.

    Raises `NoLock` where git has no revision of it, `WrongUsage` for a library that none of them holds, or a
    variant that there is not.
    """
    session.refuse_unknown_variant()
    session.observer.stage("reading the lock's revisions in git")
    file = session.project.lock_file
    committed = [revision for revision, _ in lock_history(session)]
    if not committed:
        raise NoLock(f"git has no revision of {file.name}", note="its past begins when it is committed")
    today = _versions_in(file)
    states = [LockRevision(commit="", when=0, versions=today), *committed] if today is not None else committed
    if asked is not None and not any(asked in state.versions for state in states):
        near = near_names(asked, {name for state in states for name in state.versions})
        raise WrongUsage(
            f"no revision of {file.name} holds '{asked}'",
            because=[f"near names: {', '.join(near)}"] if near else [],
            remedy=f"rabbet past {quoted(near[0])}" if near else "rabbet past",
        )
    return Past(
        asked=asked,
        versions=newest_first((today or {}).get(asked, frozenset())) if asked else (),
        revisions=tuple(_changing(states, asked)),
        revisions_read=len(committed),
    )


def _versions_in(file: Path) -> Mapping[NormalizedName, frozenset[str]] | None:
    """The versions in today's lock; `None` without one."""
    return read_locked_versions(read_text(file)).versions if file.is_file() else None


def _changing(states: list[LockRevision], asked: NormalizedName | None) -> Iterator[RevisionChanges]:
    """Those states that differ from the one before them in all libraries or the `asked` one."""
    for found in changes_of([*states, LockRevision(commit="", when=0, versions={})]):
        changes = tuple(change for change in found.changes if asked in (None, change.name))
        if changes:
            yield RevisionChanges(revision=found.revision, changes=changes)
