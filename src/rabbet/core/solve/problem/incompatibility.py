"""Incompatibilities: sets of terms that must not all hold at once, and where each of them comes from.

Every slot (a library, or one extra of it) has a domain: one bit for each of its candidates, oldest first,
and above these one bit that says "absent". A term is a slot and a mask over its domain; it holds when the
slot's value lies in the mask. Union, intersection and complement of sets of releases are thus single
operations on integers, and "not chosen at all" needs no special case.
"""

from collections.abc import Iterable
from typing import TypeAlias

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Section
from rabbet.core.needs.need import Need

__all__ = ["Cause", "Demand", "Incompatibility", "Kept", "Learned", "OneRelease", "Slot", "Term", "Unusable"]

Term: TypeAlias = tuple[int, int]
"""A slot's number and a mask over its domain."""


class Slot(Struct, frozen=True):
    """Something that gets at most one release: a library, or one extra of it, or (no name) the project."""

    name: NormalizedName
    extra: str = ""

    def __str__(self) -> str:
        """As in a requirement."""
        return f"{self.name}[{self.extra}]" if self.extra else self.name


class Demand(Struct, frozen=True):
    """A requirement that somebody makes: a release, an extra of it, or the project or a section of it.

    A `limit` of the project holds only where the library comes in.
    """

    requirer: Slot
    need: Need
    section: Section | None = None
    limit: bool = False


class OneRelease(Struct, frozen=True):
    """A library's extra comes from the same release as the library itself."""

    slot: Slot


class Unusable(Struct, frozen=True):
    """A release can't be used at all."""

    reason: str


class Kept(Struct, frozen=True):
    """A library is to come at a certain release or not at all: no requirement, but a wish of this attempt."""

    name: NormalizedName


class Learned(Struct, frozen=True):
    """Follows from two others, by resolution."""

    left: "Incompatibility"
    right: "Incompatibility"


Cause: TypeAlias = Demand | OneRelease | Unusable | Kept | Learned


class Incompatibility(Struct, frozen=True, eq=False):
    """Terms that must not all hold, and the cause. Without terms it says that there is no solution."""

    terms: tuple[Term, ...]
    cause: Cause

    @staticmethod
    def of(terms: Iterable[Term], full: "list[int]", cause: Cause) -> "Incompatibility | None":
        """Join terms on the same slot and drop those that always hold; `None` when it can never be violated.

        `full` gives each slot's whole domain.
        """
        joined: dict[int, int] = {}
        for slot, mask in terms:
            joined[slot] = joined.get(slot, full[slot]) & mask
        if not all(joined.values()):
            return None
        kept = tuple((slot, mask) for slot, mask in joined.items() if mask != full[slot])
        return Incompatibility(kept, cause)

    def resolved_with(self, other: "Incompatibility", pivot: int, full: "list[int]") -> "Incompatibility":
        """The resolvent on a slot: what follows from both, whatever that slot's value in their masks is.

        If the pivot lies in either mask and all other terms of both hold, one of the two is violated; so the
        masks on the pivot are joined, and on every other slot they are intersected.
        """
        mask = dict(self.terms).get(pivot, 0) | dict(other.terms).get(pivot, 0)
        terms = [(slot, m) for slot, m in (*self.terms, *other.terms) if slot != pivot]
        merged = Incompatibility.of([*terms, (pivot, mask)], full, Learned(self, other))
        if merged is None:
            msg = "the terms of a conflict hold together, so their intersection can't be empty"
            raise AssertionError(msg)
        return merged
