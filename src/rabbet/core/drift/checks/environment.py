"""From what an environment was made, by whom, and what stands in its way."""

from collections.abc import Iterator, Sequence

from rabbet.core.drift.expected import Expectation
from rabbet.core.model.cause import MadeForSections, Reason
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Weight
from rabbet.core.model.inventory import Inventory

__all__ = ["stale"]


def stale(expected: Expectation, inventory: Inventory, left_over: Sequence[str]) -> Iterator[Finding]:
    """The environment was made from another lock than today's, or for a part of its groups and extras."""
    if expected.has_other_lock(inventory):
        yield Finding(
            kind=Kind.STALE,
            subject=ENVIRONMENT,
            weight=Weight.DIFFERS if left_over else Weight.NOTE,
            cause=Reason.OTHER_LOCK,
        )
    chosen, all_of_them = inventory.selection, expected.everything
    if chosen is not None and all_of_them is not None and chosen != all_of_them:
        yield Finding(
            kind=Kind.STALE,
            subject=ENVIRONMENT,
            weight=Weight.NOTE,
            cause=MadeForSections(chosen=chosen, locked=all_of_them),
        )
