"""The JSON document of `drift`."""

from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict
from packaging.version import Version

from rabbet.core.needs.wording import need_text
from rabbet.documents.finding_words import detail
from rabbet.documents.mend import command_for
from rabbet.tasks.drift import Drift

__all__ = ["DriftDocument", "version_text"]


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
                    "kind": str(finding.kind),
                    "name": finding.name,
                    "locked": version_text(finding.locked) or None,
                    "installed": version_text(finding.installed) or None,
                    "weight": str(finding.weight),
                    "breaks": list(finding.breaks),
                    "detail": detail(finding),
                    "file": finding.files[0] if finding.files else None,
                    "files": list(finding.files),
                    "unmet": [need_text(one.need) for one in finding.unmet],
                    "installation": asdict(finding.installation) if finding.installation else None,
                    "needed_by": list(finding.needed_by),
                    "start_up": list(finding.start_up),
                    "comes_with": list(finding.comes_with),
                    "mend": (not found.elsewhere and command_for(finding, found.variant)) or None,
                }
                for finding in found.findings
            ],
        }


def version_text(version: Version | None) -> str:
    """A version; empty where there is none."""
    return "" if version is None else str(version)
