"""What is installed here, against the lock."""

import os
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from rabbet.core.corrections import corrected
from rabbet.core.drift.compare import Expected, find_drift
from rabbet.core.lock.select import needed
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.core.model.inventory import Installed
from rabbet.core.model.lock import Lock, Needed, Selection
from rabbet.core.model.target import Target
from rabbet.core.targets import target_of
from rabbet.environment.inspect import read_configuration, take_inventory
from rabbet.environment.stamp import own_stamp
from rabbet.formats.pylock import edited_by_hand
from rabbet.tasks.deep import deep_inventory
from rabbet.tasks.interpreter import interpreter_trouble
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer, reading_files
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime, found_runtimes
from rabbet.tasks.selection import Wish, selected
from rabbet.tasks.unchanged import environment_state, recall_sound, remember_fit

__all__ = ["Drift", "drift"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """All findings, and how many libraries were compared, for the project or a variant of it."""

    findings: tuple[Finding, ...]
    compared: int
    variant: str | None = None

    @property
    def differs(self) -> bool:
        """Whether anything weighs more than a note."""
        return any(finding.weight is not Weight.NOTE for finding in self.findings)


def drift(project: Project, machine: Machine, observer: Observer, *, deep: bool = False) -> Drift:
    """Compare without running anything of the environment; a `deep` look takes the lock's hashes alone.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`; a deep look what fetching raises too.
    """
    observer.stage("comparing the environment with the lock")
    declaration, lock = project.declaration(), project.lock()
    runtimes = found_runtimes(machine)
    runtime = chosen_runtime(declaration, runtimes, lock)
    target = target_of(runtime)
    stamp = own_stamp(project.environment, machine.environments())
    selection = selected(lock, stamp, Wish(), declaration)
    wanted = needed(lock, target, selection, declaration)
    expected = _expected(declaration, lock, wanted, target, selection)
    state = environment_state(project.environment)
    if deep:
        found = deep_inventory(project, machine, observer, stamp, wanted, runtime)
    else:
        sound, begin = recall_sound(state, machine), reading_files(observer)
        found = take_inventory(project.environment, stamp, sound=sound, begin=begin)
    if stamp is not None and found.is_sound:
        remember_fit(project, machine, state, None)
    trouble = interpreter_trouble(project.environment, runtimes)
    inventory = replace(
        found,
        libraries={name: _corrected(one, declaration) for name, one in found.libraries.items()},
        trouble=trouble.reason if trouble else "",
        usable=trouble is None or trouble.usable,
    )
    expected = replace(expected, origins_known=stamp is not None)
    findings = tuple(_with_sharers(one, project, machine) for one in find_drift(expected, inventory))
    if stamp is None:
        findings += (_of_a_stranger(project),)
    findings += (*_edited(lock), *_yanked(wanted))
    if lock.fingerprint != declaration.fingerprint():
        findings += (
            Finding(
                kind=Kind.UNRESOLVED,
                name=declaration.name,
                weight=Weight.DIFFERS,
                detail="declaration changed",
            ),
        )
    return Drift(findings=findings, compared=len(wanted), variant=project.variant)


def _corrected(installed: Installed, declaration: Declaration) -> Installed:
    """A library whose metadata is as the declaration corrects it."""
    metadata = installed.metadata
    return installed if metadata is None else replace(installed, metadata=corrected(metadata, declaration))


def _expected(
    declaration: Declaration, lock: Lock, wanted: tuple[Needed, ...], target: Target, selection: Selection
) -> Expected:
    """What should be installed, and what the project requires of the chosen sections."""
    requirements = (
        one.requirement
        for one in declaration.declared()
        if one.section is None or selection.holds(one.section)
    )
    return Expected(
        project=declaration.name,
        python=declaration.python,
        requirements=tuple(requirements),
        lock=lock,
        needed=wanted,
        target=target,
    )


def _of_a_stranger(project: Project) -> Finding:
    return Finding(
        kind=Kind.ALTERED,
        name="(environment)",
        weight=Weight.DIFFERS,
        detail=f"{project.environment.name} was not made here by your Rabbet, so its notes are not believed",
    )


def _edited(lock: Lock) -> Iterator[Finding]:
    for name in edited_by_hand(lock):
        yield Finding(
            kind=Kind.UNRESOLVED, name=name, weight=Weight.NOTE, detail="edited by hand in the lock"
        )


def _yanked(wanted: Iterable[Needed]) -> Iterator[Finding]:
    for one in wanted:
        reason = one.locked.yanked
        if reason is not None:
            version = str(one.locked.version)
            detail = f"{version} was yanked: {reason or 'no reason is given'}"
            yield Finding(
                kind=Kind.VERSION,
                name=one.locked.name,
                locked=version,
                installed=version,
                weight=Weight.NOTE,
                detail=detail,
            )


def _with_sharers(finding: Finding, project: Project, machine: Machine) -> Finding:
    """A finding of an altered file, with the other environments that share this very file (a hard link)."""
    if finding.kind is not Kind.ALTERED or not finding.file:
        return finding
    site = read_configuration(project.environment).site_packages
    place = os.path.normpath(f"{site}/{finding.file}")
    with suppress(OSError):
        altered = os.lstat(project.environment / place)
        sharers = [
            str(root)
            for root in machine.environments().known()
            if root != project.environment and _is_same(root / place, altered)
        ]
        if sharers:
            return replace(finding, detail=f"{finding.detail}, a file shared with {', '.join(sharers)}")
    return finding


def _is_same(path: Path, other: os.stat_result) -> bool:
    try:
        return os.path.samestat(os.lstat(path), other)
    except OSError:
        return False
