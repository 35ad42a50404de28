"""Mixtures of two states: which of the changes between them an environment has.

A mixture is the set of the changes that it takes over from the bad state; in all else it is as the good one.
The empty mixture is the good state, and the one of all changes the bad one.
"""

from typing import Protocol, TypeAlias

from msgspec import Struct
from packaging.utils import NormalizedName

__all__ = ["Change", "Mixing", "Mixture"]

Mixture: TypeAlias = frozenset[NormalizedName]
"""The names of the changes that are taken over."""


class Change(Struct, frozen=True, kw_only=True):
    """A library, or a runtime, that differs: its versions in both states, empty where it is absent.

    Where both are the same, other files of the release are meant.
    """

    name: NormalizedName
    good: str
    bad: str


class Mixing(Protocol):
    """Tells which mixtures are consistent: every requirement in them is met."""

    def least(self, wanted: Mixture, within: Mixture) -> Mixture | None:
        """The smallest consistent mixture within one, with all that is wanted; `None` if there is none."""

    def most(self, unwanted: Mixture, within: Mixture) -> Mixture | None:
        """The largest consistent mixture within one, without what is unwanted; `None` if there is none."""
