"""The JSON documents of `drift`, and of keeping what it found."""

from typing import TYPE_CHECKING, ClassVar

from msgspec import Struct

from rabbet.documents.drifting.finding import command_for, finding_document
from rabbet.tasks.drifting.drift import Drift

if TYPE_CHECKING:
    from rabbet.tasks.drifting.keep import Keeping

__all__ = ["DriftDocument", "KeepDocument"]


class DriftDocument(Struct, frozen=True):
    """The differences from the lock, and the requirements that they break."""

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


class KeepDocument(Struct, frozen=True):
    """The edits that keep libraries as installed, and whether they were `written`."""

    schema: ClassVar[str] = "keep"

    kept: "Keeping"
    written: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "written": self.written,
            "changes": [
                {"place": change.place, "before": change.before or None, "after": change.after or None}
                for change in self.kept.changes
            ],
            "preferred": {name: str(version) for name, version in sorted(self.kept.preferred.items())},
        }
