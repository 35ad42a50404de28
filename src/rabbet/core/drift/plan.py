"""Differences → the steps that make an environment match the lock."""

from collections.abc import Collection, Iterable, Sequence

from packaging.utils import NormalizedName

from rabbet.core.drift.words import why
from rabbet.core.model.cause import Reason
from rabbet.core.model.finding import ENVIRONMENT, PYTHON, About, Finding, Kind, Weight
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import ToInstall
from rabbet.core.model.plan import Action, Plan, Step

__all__ = ["plan_changes", "plan_whole", "reason_to_rebuild"]

_STRAY = (Reason.UNRECORDED, Reason.START_UP)


def plan_whole(needed: Sequence[ToInstall], reason: str) -> Plan:
    """The plan that adds everything, because the environment is made again for this reason."""
    steps = [Step(action=Action.ADD, name=library.locked.name, needed=library) for library in needed]
    return Plan(steps=tuple(sorted(steps, key=lambda step: step.name)), rebuild=reason)


def reason_to_rebuild(findings: Iterable[Finding]) -> str | None:
    """The first difference that needs a new environment, if any; a runtime's before others."""
    weighty = [finding for finding in findings if finding.weight is not Weight.NOTE]
    runtimes = [finding for finding in weighty if finding.kind is Kind.RUNTIME]
    damage = [
        finding for finding in weighty if finding.subject == ENVIRONMENT and finding.kind is Kind.ALTERED
    ]
    first = next(iter(runtimes + damage), None)
    if first is None:
        return None
    if first.subject == PYTHON or first.kind is not Kind.RUNTIME:
        return why(first) or f"it has Python {first.installed}"
    return f"{first.name}: {why(first)}"


def plan_changes(
    needed: Sequence[ToInstall],
    inventory: Inventory,
    findings: Sequence[Finding],
    *,
    not_chosen: Collection[NormalizedName] = (),
) -> Plan:
    """One step for each library that is needed or installed, sorted by name: those that differ change.

    Libraries that are locked for groups, extras or targets other than the chosen ones are `not_chosen`.
    """
    wanted = {library.locked.name: library for library in needed}
    differing: dict[str, Finding] = {}
    for finding in findings:
        contradiction = finding.kind is Kind.VERSION and finding.locked is None  # of the lock itself
        if finding.subject.about is About.LIBRARY and not contradiction:
            differing.setdefault(finding.name, finding)
    steps = []
    for name in sorted({*wanted, *inventory.libraries}):
        installed = inventory.libraries.get(name)
        there = tuple(
            library
            for library in (installed, *inventory.twins)
            if library is not None and library.name == name
        )
        difference = differing.get(name)
        action = _action(wanted=name in wanted, there=bool(there), differs=difference is not None)
        steps.append(
            Step(
                action=action,
                name=name,
                installed=there,
                needed=wanted.get(name),
                finding=difference,
                not_chosen=action is Action.REMOVE and name in not_chosen,
            )
        )
    strays = (place for stray in findings if stray.reason in _STRAY for place in stray.files)
    return Plan(steps=tuple(steps), strays=tuple(strays))


def _action(*, wanted: bool, there: bool, differs: bool) -> Action:
    if not wanted:
        return Action.REMOVE
    if not there:
        return Action.ADD
    return Action.REPLACE if differs else Action.KEEP
