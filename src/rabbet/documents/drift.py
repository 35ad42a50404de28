"""The JSON document of `drift`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.documents.finding import finding_document
from rabbet.documents.mend import command_for
from rabbet.tasks.drift import Drift

__all__ = ["DriftDocument"]


class DriftDocument(Struct, frozen=True):
    """What differs from the lock, and what that breaks."""

    schema: ClassVar[str] = "drift"

    found: Drift

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = self.found
        return {
            "differs": found.differs,
            "compared": found.compared,
            "environment": found.elsewhere or None,
            "against": found.against or None,
            "stories": [
                {
                    "cause": story.cause.name,
                    "along": [finding.name for finding in story.along],
                    "guessed": [finding.name for finding in story.guessed],
                }
                for story in found.stories
            ],
            "fits_revision": {
                "commit": found.since.revision.commit,
                "committed": found.since.revision.when,
                "newer": found.since.newer,
                "differing": list(found.since.differing),
            }
            if found.since
            else None,
            "findings": [
                {
                    **finding_document(finding),
                    "mend": (found.may_be_mended and command_for(finding, found.variant)) or None,
                }
                for finding in found.findings
            ],
        }
