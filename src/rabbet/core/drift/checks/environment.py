"""From what an environment was made, by whom, and what stands in its way."""

from collections.abc import Iterator, Sequence

from rabbet.core.drift.expected import Expectation
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Reason, Weight
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Selection

__all__ = ["stale"]


def stale(expected: Expectation, inventory: Inventory, left_over: Sequence[str]) -> Iterator[Finding]:
    """The environment was made from another lock than today's, or for a part of its groups and extras."""
    if expected.has_other_lock(inventory):
        yield Finding(
            kind=Kind.STALE,
            name=ENVIRONMENT,
            weight=Weight.DIFFERS if left_over else Weight.NOTE,
            reason=Reason.OTHER_LOCK,
        )
    chosen, all_of_them = inventory.selection, expected.everything
    if chosen is not None and all_of_them is not None and chosen != all_of_them:
        yield Finding(
            kind=Kind.STALE,
            name=ENVIRONMENT,
            weight=Weight.NOTE,
            told=f"it was made for {_sections(chosen)}; the lock has {_sections(all_of_them)}",
            reason=Reason.OTHER_SECTIONS,
        )


def _sections(selection: Selection) -> str:
    named = [f"group {name}" for name in sorted(selection.groups)]
    named += [f"extra {name}" for name in sorted(selection.extras)]
    return ", ".join(named) or "no groups and extras"
