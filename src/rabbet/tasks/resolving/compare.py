"""The differences between two states: locks, revisions in git, installed libraries."""

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.lock.differences import DeclaredChange, Difference, declared_changes, differences
from rabbet.core.model.lock import Lock
from rabbet.core.rules.breach import Breach
from rabbet.errors import SourceFailed
from rabbet.python.choosing.select import libraries_for
from rabbet.python.choosing.targets import target_of
from rabbet.tasks.resolving.explain import remembered_needs
from rabbet.workspace.rules.judging import counted_rules, judged_lock
from rabbet.workspace.rules.rule_sets import KNOWN
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState, read_state

__all__ = ["Compared", "compare"]


class Compared(Struct, frozen=True, kw_only=True):
    """The changes of the declaration, as far as both are known, and what differs between the states.

    Rules of today are `opened` if the new state breaks them and the old one does not, and `closed` if it is
    the other way round; why that can't be told, `unknown_rules` says.
    """

    old: str
    new: str
    declared: tuple[DeclaredChange, ...]
    differences: tuple[Difference, ...]
    opened: tuple[Breach, ...] = ()
    closed: tuple[Breach, ...] = ()
    unknown_rules: str = ""


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
    opened, closed, unknown = _rules_between(session, before.lock, after.lock)
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
        opened=opened,
        closed=closed,
        unknown_rules=unknown,
    )


def _rules_between(
    session: Session, old: Lock, new: Lock
) -> tuple[tuple[Breach, ...], tuple[Breach, ...], str]:
    """The vulnerabilities, licences and origins that one state brings and the other does not."""
    try:
        rules = counted_rules(session, KNOWN)
        if rules is None:
            return (), (), ""
        before, after = ({_key(one): one for one in judged_lock(session, rules, lock)} for lock in (old, new))
    except SourceFailed as error:
        return (), (), str(error)
    opened = (breach for key, breach in after.items() if key not in before)
    closed = (breach for key, breach in before.items() if key not in after)
    return tuple(opened), tuple(closed), "; ".join(rules.records.too_old)


def _key(breach: Breach) -> tuple[object, ...]:
    """The same for a breach that stays, whatever version it is of."""
    told = "" if breach.vulnerability else breach.told
    return breach.name, breach.rule, breach.what, told, breach.refuses


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
