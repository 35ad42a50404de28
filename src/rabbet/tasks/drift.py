"""What is installed here, against the lock."""

from dataclasses import dataclass, replace

from rabbet.core.drift.compare import Expected, find_drift
from rabbet.core.lock.select import needed
from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.core.targets import target_of
from rabbet.environment.inspect import take_inventory
from rabbet.environment.stamp import read_stamp
from rabbet.tasks.interpreter import interpreter_trouble
from rabbet.tasks.machine import Machine
from rabbet.tasks.project import Project
from rabbet.tasks.runtime import chosen_runtime
from rabbet.tasks.selection import Wish, selected

__all__ = ["Drift", "drift"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Drift:
    """All findings, and how many libraries were compared."""

    findings: tuple[Finding, ...]
    compared: int

    @property
    def differs(self) -> bool:
        """Whether anything weighs more than a note."""
        return any(finding.weight is not Weight.NOTE for finding in self.findings)


def drift(project: Project, machine: Machine) -> Drift:
    """Compare without running anything of the environment.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `EnvironmentFailed`.
    """
    declaration, lock = project.declaration(), project.lock()
    target = target_of(chosen_runtime(declaration, machine, lock))
    selection = selected(lock, read_stamp(project.environment), Wish())
    wanted = needed(lock, target, selection)
    expected = Expected(
        project=declaration.name,
        python=declaration.python,
        requirements=tuple(
            one.requirement
            for one in declaration.declared()
            if one.section is None or selection.holds(one.section)
        ),
        lock=lock,
        needed=wanted,
        target=target,
    )
    trouble = interpreter_trouble(project.environment, machine)
    inventory = replace(
        take_inventory(project.environment, thorough=True),
        trouble=trouble.reason if trouble else "",
        usable=trouble is None or trouble.usable,
    )
    findings = find_drift(expected, inventory)
    if lock.fingerprint != declaration.fingerprint():
        findings += (
            Finding(
                kind=Kind.UNRESOLVED,
                name=declaration.name,
                weight=Weight.DIFFERS,
                detail="declaration changed",
            ),
        )
    return Drift(findings=findings, compared=len(wanted))
