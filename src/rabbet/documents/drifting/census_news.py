"""The JSON documents of the census over time: its trend, and what is new."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.core.census.history import Changed, News
from rabbet.documents.drifting.census import unread_document
from rabbet.tasks.drifting.census_news import Told, Trend

__all__ = ["NewsDocument", "TrendDocument"]


class NewsDocument(Struct, frozen=True):
    """What is new since a time."""

    schema: ClassVar[str] = "census-news"

    told: Told

    @property
    def found(self) -> News:
        """What is new."""
        return self.told.news

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "since": found.since,
            "broke": _changed(found.broke),
            "mended": _changed(found.mended),
            "silent": _changed(found.silent),
            "added": _changed(found.added),
            "libraries": list(found.libraries),
            "unread": unread_document(self.told.census.unread),
        }


def _changed(machines: Sequence[Changed]) -> list[dict[str, object]]:
    return [
        {"label": machine.label, "recorded": machine.recorded or None, "about": list(machine.about)}
        for machine in machines
    ]


class TrendDocument(Struct, frozen=True):
    """How the team stood, by weeks, and when the newest locks reached the machines."""

    schema: ClassVar[str] = "census-trend"

    found: Trend

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "weeks": [
                {
                    **asdict(week.last),
                    "behind": dict(week.last.behind),
                    "week": week.begins,
                    "share": week.share,
                }
                for week in self.found.weeks
            ],
            "locks": [asdict(lock) for lock in self.found.locks],
        }
