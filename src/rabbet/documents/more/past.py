"""The JSON document of `past`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.more.past import Past

__all__ = ["PastDocument"]


class PastDocument(Struct, frozen=True):
    """The earlier revisions of the lock."""

    schema: ClassVar[str] = "past"

    found: Past

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "library": found.asked,
            "versions": list(found.versions),
            "revisions_read": found.revisions_read,
            "revisions": [
                {
                    "commit": revision.commit,
                    "committed": revision.when,
                    "changes": [
                        {"name": change.name, "before": list(change.before), "after": list(change.after)}
                        for change in revision.changes
                    ],
                }
                for revision in found.revisions
            ],
        }
