"""A trial: what is wished for, and what it comes to."""

from typing import NamedTuple

__all__ = ["TrialSummary", "Wish"]


class Wish(NamedTuple):
    """The wish for a trial: requirements, and places of unpublished libraries."""

    requirements: tuple[str, ...]
    places: tuple[str, ...] = ()


class TrialSummary(NamedTuple):
    """A trial's new libraries, as names and versions, and its changes of locked ones: name, before, after.

    `keeping` is the command that makes it last, empty where everything is locked already.
    """

    brought: list[tuple[str, str]]
    changed: list[tuple[str, str, str]]
    keeping: str
