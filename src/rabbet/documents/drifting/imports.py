"""The JSON document of `imports`, and what its findings say."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.model.finding import Weight
from rabbet.python.code.imports import TEST_GROUPS, ImportFinding, ImportKind
from rabbet.python.code.words import cause_text
from rabbet.tasks.drifting.imports import Imports

__all__ = ["SAYS", "ImportsDocument", "mend_of_imports"]

SAYS = {
    ImportKind.ABSENT: "no library of the project offers it",
    ImportKind.GROUP_ONLY: "the program needs it, and only a group brings it",
    ImportKind.UNDECLARED: "it is there by chance, and not declared",
    ImportKind.UNUSED: "nothing imports it",
    ImportKind.TESTS_ONLY: "only tests import it, and everybody gets it",
    ImportKind.SEVERAL: "which one is imported depends on the order of files",
    ImportKind.UNREADABLE: "it can't be read",
}


class ImportsDocument(Struct, frozen=True):
    """Imports without a fitting declaration, and declarations without an import."""

    schema: ClassVar[str] = "imports"

    found: Imports

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "differs": self.found.differs,
            "files": self.found.files,
            "findings": [
                {
                    "kind": str(finding.kind),
                    "name": finding.name,
                    "weight": str(finding.weight),
                    "modules": list(finding.modules),
                    "places": list(finding.places),
                    "says": SAYS[finding.kind],
                    "reason": str(finding.cause.reason) if finding.cause else None,
                    "told": cause_text(finding.cause),
                    "section": str(finding.section) if finding.section else None,
                    "mend": mend_of_imports(finding, self.found.groups) or None,
                }
                for finding in self.found.findings
            ],
        }


def mend_of_imports(finding: ImportFinding, groups: tuple[str, ...]) -> str:
    """The command that brings declaration and imports together, where there is one."""
    name = finding.name
    testing = next((f" --group {group}" for group in TEST_GROUPS if group in groups), "")
    section = f" --{finding.section.kind} {finding.section.name}" if finding.section else ""
    if finding.kind is ImportKind.UNDECLARED:
        return f"rabbet declare {name}{section or (testing if finding.developers else '')}"
    if finding.kind is ImportKind.GROUP_ONLY:
        return f"rabbet declare {name}"
    if finding.kind is ImportKind.TESTS_ONLY and testing:
        return f"rabbet retract {name} && rabbet declare {name}{testing}"
    if finding.kind is ImportKind.UNUSED and finding.weight is not Weight.NOTE:
        return f"rabbet retract {name}{section}"
    return ""
