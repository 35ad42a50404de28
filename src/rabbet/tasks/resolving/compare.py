"""The differences between two states: locks, revisions in git, installed libraries."""

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.lock.differences import DeclaredChange, Difference, declared_changes, differences
from rabbet.core.model.lock import Lock
from rabbet.python.choosing.select import libraries_for
from rabbet.python.choosing.targets import target_of
from rabbet.tasks.resolving.explain import remembered_needs
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState, read_state

__all__ = ["Compared", "compare"]


class Compared(Struct, frozen=True, kw_only=True):
    """The changes of the declaration, as far as both are known, and what differs between the states."""

    old: str
    new: str
    declared: tuple[DeclaredChange, ...]
    differences: tuple[Difference, ...]


def compare(session: Session, old: str, new: str | None) -> Compared:
    """Compare two states; without `new`, with the project's present lock.

    Against what is installed, of a lock only what this machine needs counts.
    Raises `NoLock`, `NotUnderstood`, `SourceFailed`, `EnvironmentFailed`, `NoRuntime`.
    """
    before = read_state(session, old)
    after = read_state(session, new if new is not None else str(session.project.lock_file))
    if before.installed != after.installed:
        before, after = _here(before, session), _here(after, session)
    elif before.installed:
        before, after = _as_far_as_told(before, after), _as_far_as_told(after, before)
    present = after.declaration or session.declaration()
    needs = remembered_needs(session.machine.metadata, present)
    declared = declared_changes(before.declaration, after.declaration)
    return Compared(
        old=before.name,
        new=after.name,
        declared=declared,
        differences=differences(
            before.lock,
            after.lock,
            declared,
            needs,
            present,
            unexplained="" if before.installed or after.installed else "chosen again",
        ),
    )


def _as_far_as_told(state: ComparedState, other: ComparedState) -> ComparedState:
    """An installed state with the runtimes that the other state knows too."""
    told = {runtime.language for runtime in other.lock.runtimes}
    known = tuple(runtime for runtime in state.lock.runtimes if runtime.language in told)
    return replace(state, lock=replace(state.lock, runtimes=known))


def _here(state: ComparedState, session: Session) -> ComparedState:
    """A lock as far as this machine needs it, without runtimes: an environment says little of these."""
    lock: Lock = replace(state.lock, runtimes=())
    if state.installed:
        return replace(state, lock=lock)
    target = target_of(chosen_runtime(session.declaration(), pythons_of(session), state.lock))
    libraries = libraries_for(lock, target, lock.everything)
    return replace(state, lock=replace(lock, libraries=libraries))
