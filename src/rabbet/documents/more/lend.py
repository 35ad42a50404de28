"""The JSON documents of `lend`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.more.lend import Lent, Raised

__all__ = ["LentDocument", "RaisedDocument"]


class LentDocument(Struct, frozen=True):
    """The libraries and runtimes whose commands are lent."""

    schema: ClassVar[str] = "lend"

    found: Sequence[Lent]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "lent": [
                {
                    "library": None if lent.note.runtime else lent.note.library,
                    "runtime": lent.note.library if lent.note.runtime else None,
                    "version": str(lent.version) if lent.version else None,
                    "newer": str(lent.newer) if lent.newer else None,
                    "place": lent.note.place or None,
                    "environment": None if lent.note.runtime else lent.note.environment,
                    "program": lent.note.environment if lent.note.runtime else None,
                    "folder": lent.note.folder,
                    "commands": list(lent.note.commands),
                    "on_path": lent.on_path,
                }
                for lent in self.found
            ]
        }


class RaisedDocument(Struct, frozen=True):
    """The libraries that were raised, or stayed as they were."""

    schema: ClassVar[str] = "lend-raised"

    found: Sequence[Raised]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "raised": [
                {
                    "library": raised.library,
                    "before": str(raised.before) if raised.before else None,
                    "after": str(raised.after) if raised.after else None,
                    "kept": raised.kept or None,
                }
                for raised in self.found
            ]
        }
