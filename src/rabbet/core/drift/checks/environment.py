"""The environment itself: what was altered of it, what can't be checked, from what it was made."""

from collections.abc import Iterator, Sequence

from rabbet.core.drift.expected import Expectation
from rabbet.core.model.cause import MadeForSections, Reason, Unchecked
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Weight
from rabbet.core.model.inventory import Inventory

__all__ = ["environment", "stale"]


def environment(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Altered parts of the environment itself, and parts that can't be checked."""
    for damage in inventory.damage:
        yield Finding(
            kind=Kind.ALTERED,
            subject=ENVIRONMENT,
            weight=Weight.BREAKS,
            breaks=(expected.project,),
            cause=damage,
        )
    unchecked = (
        (inventory.without_record, Weight.NOTE, Reason.NO_RECORD),
        (inventory.unvouched, Weight.DIFFERS, Reason.COMPILED_LATER),
    )
    for names, weight, reason in unchecked:
        if names:
            cause = Unchecked(reason=reason, libraries=names)
            yield Finding(kind=Kind.ALTERED, subject=ENVIRONMENT, weight=weight, cause=cause)


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
