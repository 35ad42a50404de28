"""A finding in JSON: the same keys wherever one is told."""

from msgspec.structs import asdict
from packaging.version import Version

from rabbet.core.model.finding import Finding
from rabbet.core.needs.wording import need_text
from rabbet.documents.finding_words import detail

__all__ = ["finding_document", "version_text"]


def finding_document(finding: Finding) -> dict[str, object]:
    """What it is about, what was locked and is installed, what that breaks, and why it is so."""
    by_hand = finding.by_hand
    return {
        "kind": str(finding.kind),
        "about": str(finding.subject.about),
        "name": finding.name,
        "locked": version_text(finding.locked) or None,
        "installed": version_text(finding.installed) or None,
        "weight": str(finding.weight),
        "breaks": list(finding.breaks),
        "reason": str(finding.reason) if finding.reason else None,
        "detail": detail(finding),
        "file": finding.files[0] if finding.files else None,
        "files": list(finding.files),
        "unmet": [need_text(one.need) for one in finding.unmet],
        "installation": asdict(by_hand.installation) if by_hand else None,
        "needed_by": list(by_hand.needed_by) if by_hand else [],
        "start_up": list(by_hand.start_up) if by_hand else [],
        "comes_with": list(finding.comes_with),
    }


def version_text(version: Version | None) -> str:
    """A version; empty where there is none."""
    return "" if version is None else str(version)
