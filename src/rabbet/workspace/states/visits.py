"""What changed in a lock since this user's last resolving or recreating in the project."""

from itertools import takewhile

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.drift.since import LockRevision, RevisionChanges, changes_of
from rabbet.disk.text_file import read_text
from rabbet.formats.lock_text import read_locked_versions
from rabbet.store.layout import state_folder
from rabbet.store.visits import Visits
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import stamp_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.lock_history import lock_history

__all__ = ["SinceVisit", "note_visit", "since_visit"]

_MOST = 100  # revisions in which the lock of the last visit is looked for


class SinceVisit(Struct, frozen=True, kw_only=True):
    """When the last visit was (seconds since the epoch), and what revisions changed since, newest first."""

    when: int
    revisions: tuple[RevisionChanges, ...]


def note_visit(session: Session) -> None:
    """Remember that the user worked with the present lock."""
    path = session.project.lock_file
    if not path.is_file():
        return
    text, visits = read_text(path), _visits(session.machine)
    versions = read_locked_versions(text).versions
    visits.note(path, stamp_of(text), {name: sorted(each) for name, each in versions.items()})


def since_visit(session: Session, text: str) -> SinceVisit | None:
    """What changed in the lock, whose text this is, since the last visit; `None` if nothing did.

    Commits tell who changed what, as far as git has the lock; what they don't explain is not committed.
    """
    last, stamp = _visits(session.machine).last(session.project.lock_file), stamp_of(text)
    if last is None or last.stamp == stamp:
        return None
    history = list(lock_history(session, _MOST))
    stamps = [stamp for _, stamp in history]
    if last.stamp in stamps:
        newer = history[: stamps.index(last.stamp)]
    else:  # it was never committed
        newer = list(takewhile(lambda found: found[0].when > last.when, history))
    before = {NormalizedName(name): frozenset(each) for name, each in last.versions.items()}
    states = [revision for revision, _ in newer]
    if not history or stamps[0] != stamp:
        states.insert(0, LockRevision(commit="", when=0, versions=read_locked_versions(text).versions))
    base = LockRevision(commit="", when=last.when, versions=before)
    changed = tuple(changes_of([*states, base]))
    return SinceVisit(when=last.when, revisions=changed) if changed else None


def _visits(machine: Machine) -> Visits:
    return Visits(state_folder(machine.environ, machine.folder))
