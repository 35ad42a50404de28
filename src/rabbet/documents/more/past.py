"""The JSON document of `past`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.drift.since import RevisionChanges
from rabbet.tasks.more.past import Past

__all__ = ["PastDocument", "revision_document"]


class PastDocument(Struct, frozen=True):
    """The earlier revisions of the lock."""

    schema: ClassVar[str] = "past"

    found: Past

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        past = self.found
        return {
            "library": past.asked,
            "versions": list(past.versions),
            "revisions_read": past.revisions_read,
            "revisions": [revision_document(revision) for revision in past.revisions],
        }


def revision_document(changed: RevisionChanges) -> dict[str, object]:
    """What a revision of the lock changed, and who committed it; what is not committed has no commit."""
    revision = changed.revision
    return {
        "commit": revision.commit or None,
        "committed": revision.when if revision.commit else None,
        "author": revision.author or None,
        "changes": [
            {"name": change.name, "before": list(change.before), "after": list(change.after)}
            for change in changed.changes
        ],
    }
