"""The JSON documents of `census`, one for each of its actions and questions."""

from collections.abc import Sequence
from pathlib import Path
from typing import ClassVar

from msgspec import Struct

from rabbet.core.census.matrix import MachineState
from rabbet.core.model.finding import Weight
from rabbet.documents.drifting.finding import finding_document, mend_command
from rabbet.tasks.drifting.census import (
    Census,
    Collected,
    Development,
    Heard,
    LibraryOverTime,
    SavedInventory,
)
from rabbet.workspace.states.machines import Unread

__all__ = [
    "CensusDocument",
    "ChangedDocument",
    "CheckDocument",
    "CollectedDocument",
    "DevelopmentDocument",
    "LibraryDocument",
    "MachineDocument",
    "RecordedDocument",
    "unread_document",
]


class RecordedDocument(Struct, frozen=True):
    """An inventory that was written, or sent."""

    schema: ClassVar[str] = "census-record"

    found: SavedInventory
    sent: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        machine = self.found.inventory
        return {
            "label": machine.label,
            "sent_through" if self.sent else "file": self.found.where,
            "libraries": len(machine.inventory.libraries),
        }


class CollectedDocument(Struct, frozen=True):
    """The inventories that came through a remote."""

    schema: ClassVar[str] = "census-collect"

    found: Collected

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {"remote": found.remote, "machines": found.machines, "inventories": found.inventories}


class ChangedDocument(Struct, frozen=True):
    """A machine that was forgotten, or (`new`) renamed; `where`, empty where nothing was changed."""

    schema: ClassVar[str] = "census-changed"

    label: str
    new: str | None
    where: str

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"label": self.label, "renamed": self.new, "changed_in": self.where or None}


class CensusDocument(Struct, frozen=True):
    """The matrix of what differs × groups of machines."""

    schema: ClassVar[str] = "census"

    found: Census
    variant: str | None
    drawn: tuple[Path, ...] = ()

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        matrix = self.found.matrix
        return {
            "machines": matrix.machines,
            "groups": [
                {
                    "name": group.name,
                    "labels": list(group.labels),
                    "machines": [
                        {"label": label, "recorded": when or None}
                        for label, when in zip(group.labels, group.recorded, strict=True)
                    ],
                    "weight": str(group.state.weight) if group.state.weight else None,
                    "behind": group.state.behind,
                    "trouble": group.state.trouble or None,
                    "mend": mend_command(group.mends, self.variant) if group.mends else None,
                    "findings": [finding_document(finding) for finding in group.state.findings],
                }
                for group in matrix.groups
            ],
            "libraries": [
                {
                    "about": str(row.subject.about),
                    "name": row.name,
                    "breaking": row.breaking,
                    "differing": row.differing,
                }
                for row in matrix.rows
            ],
            "files": [path.name for path in self.drawn],
            "unread": unread_document(self.found.unread),
            "ahead": _heard_document(self.found.ahead),
            "silent": _heard_document(self.found.silent),
            "lock": _lock_document(self.found),
        }


def _lock_document(found: Census) -> dict[str, object] | None:
    """The revision of the lock that machines were compared with; `None` where git has none like it."""
    lock = found.held_against
    return {"commit": lock.commit or None, "committed": lock.when or None} if lock else None


def _heard_document(machines: Sequence[Heard]) -> list[dict[str, object]]:
    return [{"label": machine.label, "recorded": machine.recorded} for machine in machines]


def unread_document(unread: Sequence[Unread]) -> list[dict[str, str]]:
    """What can't be read, and why."""
    return [{"what": entry.what, "because": entry.because} for entry in unread]


class MachineDocument(Struct, frozen=True):
    """All that differs on one machine."""

    schema: ClassVar[str] = "census-machine"

    state: MachineState

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        state = self.state
        return {
            "label": state.label,
            "recorded": state.recorded or None,
            "tags": dict(state.tags),
            "behind": state.behind,
            "trouble": state.trouble or None,
            "findings": [finding_document(finding) for finding in state.findings],
        }


class LibraryDocument(Struct, frozen=True):
    """One library on all machines, over time."""

    schema: ClassVar[str] = "census-library"

    found: LibraryOverTime

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "library": found.name,
            "locked": list(found.locked),
            "changes": [
                {"machine": label, "since": when, "version": version or None}
                for label, when, version in found.changes
            ],
            "unread": unread_document(found.unread),
            "ahead": _heard_document(found.ahead),
        }


class DevelopmentDocument(Struct, frozen=True):
    """Who came into which state, and when."""

    schema: ClassVar[str] = "census-since"

    found: Development

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "changes": [MachineDocument(state).document() for state in self.found.states],
            "unread": unread_document(self.found.unread),
            "ahead": _heard_document(self.found.ahead),
        }


class CheckDocument(Struct, frozen=True):
    """Whether more machines break than are allowed, fit for a chat message."""

    schema: ClassVar[str] = "census-check"

    found: Census
    allowed: int

    @property
    def too_many(self) -> bool:
        """Whether that is so; a machine whose state is unknown counts as breaking."""
        matrix = self.found.matrix
        return matrix.weighing(Weight.BREAKS) + matrix.unknown + len(self.found.unread) > self.allowed

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        matrix = self.found.matrix
        return {
            "too_many": self.too_many,
            "allowed": self.allowed,
            "machines": matrix.machines,
            "breaking": matrix.weighing(Weight.BREAKS),
            "differing": matrix.weighing(Weight.DIFFERS),
            "unknown": matrix.unknown,
            "unread": unread_document(self.found.unread),
            "ahead": _heard_document(self.found.ahead),
            "silent": _heard_document(self.found.silent),
            "oldest": min((when for group in matrix.groups for when in group.recorded if when), default=None),
        }
