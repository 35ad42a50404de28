"""The JSON document of `adopt`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.needs.wording import need_text
from rabbet.python.code.adoption import AdoptCause, Adopted
from rabbet.python.code.words import adopt_text
from rabbet.tasks.declaring.adopt import Adopting

__all__ = ["AdoptDocument", "shown_place"]


class AdoptDocument(Struct, frozen=True):
    """The proposed declaration with its evidence, and whether it was `written`."""

    schema: ClassVar[str] = "adopt"

    drawn_up: Adopting
    written: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        adoption = self.drawn_up.adoption
        return {
            "written": self.written,
            "looked_at": list(self.drawn_up.looked_at),
            "entries": [
                {"entry": need_text(entry.need), "section": shown_place(entry), **_cause(entry.cause)}
                for entry in adoption.entries
            ],
            "python": self.drawn_up.python[0] or None,
            "sources": [{"name": source.name, "url": source.url} for source in self.drawn_up.sources],
            "limits": [need_text(limit.need) for limit in adoption.limits],
            "preferred": {name: str(version) for name, version in sorted(adoption.preferred.items())},
            "along": list(adoption.along),
            "at_odds": [{"what": conflict.what, **_cause(conflict.cause)} for conflict in adoption.at_odds],
            "left": [{"what": entry.what, **_cause(entry.cause)} for entry in adoption.left],
        }


def _cause(cause: AdoptCause) -> dict[str, str]:
    return {"reason": cause.reason, "because": adopt_text(cause)}


def shown_place(entry: Adopted) -> str:
    """The section that an entry belongs to."""
    return str(entry.section) if entry.section else "the project"
