"""Settling every version: declaration and sources → a lock."""

from collections.abc import Sequence
from dataclasses import dataclass

from rabbet.core.lock.moves import Move
from rabbet.core.lock.select import serves
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.model.target import Target
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.pylock import write_lock
from rabbet.store.atomic import write_text
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime, targets_for
from rabbet.tasks.settle import Aim, settle

__all__ = ["Resolved", "Verdict", "resolve", "verify"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Resolved:
    """The lock, what moved against the one before, and whether the file was left as it was.

    `new_pins` are libraries that the declaration pins by hand since the lock before, if it does so for a few.
    `passed_over` are newer releases that would have been chosen, had their metadata been of use.
    `also_known` tells of names that since the lock before another source knows as well.
    """

    lock: Lock
    targets: tuple[Target, ...]
    moves: tuple[Move, ...]
    untouched: bool
    new_pins: tuple[str, ...] = ()
    passed_over: tuple[str, ...] = ()
    also_known: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Verdict:
    """Whether a lock is what the declaration asks for (then there are no reasons), and what would move."""

    lock: Lock
    reasons: tuple[str, ...]
    moves: tuple[Move, ...]


def resolve(project: Project, machine: Machine, observer: Observer, aim: Aim) -> Resolved:
    """Write the lock that the declaration asks for, for all its targets.

    A lock that is up to date is left alone, byte for byte.

    Raises `NoSolution`, `SourceFailed`, `NoRuntime`, `NotUnderstood`, `CannotWrite`.
    """
    declaration = project.declaration()
    before = _lock_before(project, must_be_readable=not aim.afresh)
    _check_raised(before, aim)
    runtime = _runtime(declaration, machine, observer, before if aim.keeps else None)
    targets = targets_for(declaration, runtime)
    if before is not None and aim.plain and _up_to_date(before, declaration, targets):
        return Resolved(lock=before, targets=targets, moves=(), untouched=True)
    settled = settle(project, machine, observer, runtime, before, aim)
    untouched = before is not None and write_lock(before) == write_lock(settled.lock)
    if not untouched:
        write_text(project.lock_file, write_lock(settled.lock))
    return Resolved(
        lock=settled.lock,
        targets=targets,
        moves=settled.moves,
        untouched=untouched,
        new_pins=_new_pins(before, settled.lock),
        passed_over=settled.passed_over,
        also_known=tuple(
            f"{name} is taken from '{settled.taken_from[name]}', and '{others[0]}' knows that name too"
            for name, others in settled.also_known.items()
            if before is None or name not in before.also_known
        ),
    )


def verify(project: Project, machine: Machine, observer: Observer) -> Verdict:
    """Tell whether the lock is what resolving would leave as it is; nothing is written.

    Raises what `resolve` raises, and `NoLock`.
    """
    declaration, before = project.declaration(), project.lock()
    runtime = _runtime(declaration, machine, observer, before)
    settled = settle(project, machine, observer, runtime, before, Aim())
    reasons = []
    if before.fingerprint != declaration.fingerprint():
        reasons.append("the declaration changed since the lock was made")
    reasons += [
        f"the lock does not serve {target}"
        for target in targets_for(declaration, runtime)
        if not serves(before, target)
    ]
    reasons += [_would_move(move) for move in settled.moves]
    if not reasons and write_lock(before) != write_lock(settled.lock):
        reasons.append("its files or other entries are not what resolving would write")
    return Verdict(lock=before, reasons=tuple(reasons), moves=settled.moves)


def _new_pins(before: Lock | None, lock: Lock) -> tuple[str, ...]:
    """What is pinned by hand since the lock before, unless everything is."""
    if len(lock.pins) == len(lock.libraries):
        return ()
    return tuple(name for name in lock.pins if before is None or name not in before.pins)


def _runtime(
    declaration: Declaration, machine: Machine, observer: Observer, lock: Lock | None
) -> PythonRuntime:
    observer.stage("looking for a runtime")
    return chosen_runtime(declaration, machine, lock)


def _would_move(move: Move) -> str:
    if move.before is None:
        return f"{move.name} {move.after} is missing from the lock: {move.reason}"
    if move.after is None:
        return f"{move.name} {move.before} is in the lock, and no longer needed"
    return f"{move.name} {move.before} would become {move.after}: {move.reason}"


def _lock_before(project: Project, *, must_be_readable: bool) -> Lock | None:
    try:
        return project.lock() if project.lock_file.exists() else None
    except NotUnderstood:
        if must_be_readable:
            raise
        return None


def _check_raised(before: Lock | None, aim: Aim) -> None:
    unknown = sorted(aim.raised - set(before.versions if before else ()))
    if unknown:
        raise WrongUsage(f"'{unknown[0]}' is not in the lock, so it can't be raised", remedy="rabbet resolve")


def _up_to_date(lock: Lock, declaration: Declaration, targets: Sequence[Target]) -> bool:
    environments = tuple(target.environment for target in targets)
    return lock.fingerprint == declaration.fingerprint() and lock.environments == environments
