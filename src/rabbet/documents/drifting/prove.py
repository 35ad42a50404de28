"""The JSON documents of `prove`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.core.culprit.mixture import StateChange
from rabbet.core.needs.wording import need_text
from rabbet.core.prove.requirements import LibraryBounds
from rabbet.proving.bounds import Bounds
from rabbet.proving.everywhere import Row
from rabbet.proving.newest import Newest
from rabbet.resolving.suggested_commands import command_for
from rabbet.tasks.drifting.prove import Costs

__all__ = ["BoundsDocument", "EverywhereDocument", "NewestDocument"]


class NewestDocument(Struct, frozen=True):
    """How far the lock can be raised, what is kept back, and whether that was `written`."""

    schema: ClassVar[str] = "prove-newest"

    found: Newest
    costs: Costs
    written: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "command": list(found.command),
            "answer": str(found.verdict.answer),
            "written": self.written,
            "raised": [_change(change) for change in found.raised],
            "kept_back": [
                {
                    "name": kept.name,
                    "stays": kept.stays or None,
                    "newest": kept.newest or None,
                    "refused": not kept.fails,
                    "because_of": list(kept.because_of),
                    "ended": kept.ended or None,
                    "lines": list(kept.lines),
                }
                for kept in found.kept
            ],
            "limits": found.limits or None,
            "failure": list(found.failure),
            "chance_of_luck": found.verdict.luck,
            "notes": list(found.notes),
            **costs_document(self.costs),
        }


def costs_document(costs: Costs) -> dict[str, object]:
    """What it took."""
    return {**asdict(costs), "seconds": round(costs.seconds, 3)}


def _change(change: StateChange) -> dict[str, object]:
    return {"name": change.name, "from": change.good or None, "to": change.bad or None}


class BoundsDocument(Struct, frozen=True):
    """Which declared bounds are true, and whether the corrected ones were `written`."""

    schema: ClassVar[str] = "prove-bounds"

    found: Bounds
    costs: Costs
    written: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "command": list(found.command),
            "fails_now": found.fails_now,
            "failure": list(found.failure),
            "libraries": [_library(library) for library in found.libraries],
            "pythons": [
                {
                    "minor": proof.minor,
                    "passes": proof.passes,
                    "reason": proof.reason or None,
                    "lines": list(proof.lines),
                }
                for proof in found.pythons
            ],
            "edits": [command_for([edit]) for edit in found.edits],
            "lowest_together": found.joint,
            "raised_for_that": list(found.raised_for_joint),
            "skipped": list(found.skipped),
            "written": self.written,
            **costs_document(self.costs),
        }


def _library(library: LibraryBounds) -> dict[str, object]:
    return {
        "name": library.name,
        "declared": [need_text(requirement.need) for requirement in library.declared],
        "proven": [need_text(requirement.need) for requirement in library.needs] or None,
        "locked": str(library.locked),
        "oldest": str(library.oldest),
        "newest": str(library.newest),
        "fails_below": str(library.below) if library.below else None,
        "fails_above": str(library.above) if library.above else None,
        "lower": str(library.lower),
        "upper": str(library.upper),
    }


class EverywhereDocument(Struct, frozen=True):
    """Every variant with every Python of its lock, at both ends and as it is locked."""

    schema: ClassVar[str] = "prove-everywhere"

    rows: Sequence[Row]
    command: Sequence[str]
    costs: Costs

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "command": list(self.command),
            "rows": [
                {
                    "variant": row.variant,
                    "python": row.python,
                    "cells": [
                        {
                            "end": str(cell.end),
                            "passes": cell.passes,
                            "reason": cell.reason or None,
                            "ended": cell.ended or None,
                            "lines": list(cell.lines),
                        }
                        for cell in row.cells
                    ],
                }
                for row in self.rows
            ],
            **costs_document(self.costs),
        }
