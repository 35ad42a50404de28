"""What an environment lacks and has too much of → the steps that make it match the lock."""

from collections.abc import Collection, Sequence

from packaging.utils import NormalizedName

from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Needed
from rabbet.core.model.plan import Action, Plan, Step

__all__ = ["plan_steps"]


def plan_steps(
    needed: Sequence[Needed],
    inventory: Inventory | None,
    *,
    rebuild: str = "",
    not_chosen: Collection[NormalizedName] = (),
) -> Plan:
    """One step for each library that is needed or installed, sorted by name.

    Without an inventory, or when the environment is rebuilt, everything is added. Libraries that are locked
    for groups, extras or targets other than the chosen ones are `not_chosen`.
    """
    installed = {} if inventory is None or rebuild else inventory.libraries
    twins = () if inventory is None or rebuild else inventory.twins
    wanted = {one.locked.name: one for one in needed}
    steps = []
    for name in sorted({*wanted, *installed}):
        there = tuple(one for one in (installed.get(name), *twins) if one is not None and one.name == name)
        action, reason = _action(wanted.get(name), there)
        if action is Action.REMOVE and name in not_chosen:
            reason = "locked, but for what was not chosen"
        steps.append(Step(action=action, name=name, installed=there, needed=wanted.get(name), reason=reason))
    strays = () if inventory is None or rebuild else inventory.strays
    return Plan(steps=tuple(steps), rebuild=rebuild, strays=strays)


def _action(wanted: Needed | None, there: Sequence[Installed]) -> tuple[Action, str]:
    if wanted is None:
        return Action.REMOVE, "not in the lock"
    if not there:
        return Action.ADD, ""
    installed = there[0]
    if len(there) > 1:
        return Action.REPLACE, "installed more than once"
    if installed.version != wanted.locked.version:
        return Action.REPLACE, f"was {installed.version}"
    if installed.unfinished:
        return Action.REPLACE, "a run that was cut short was changing it"
    if installed.altered:
        return Action.REPLACE, f"{installed.altered[0]} was altered"
    if installed.wheel_sha256 != wanted.wheel.sha256:
        return Action.REPLACE, "came from another file"
    return Action.KEEP, ""
