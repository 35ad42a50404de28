"""The JSON documents of `prove`."""

from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.core.culprit.mixture import StateChange
from rabbet.proving.newest import Newest
from rabbet.tasks.drifting.prove import Costs

__all__ = ["NewestDocument"]


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
