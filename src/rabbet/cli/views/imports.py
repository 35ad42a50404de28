"""What `imports` found."""

from typing import ClassVar

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.cli.style import count, table
from rabbet.core.drift.imports import ImportFinding, ImportKind
from rabbet.core.model.finding import Weight
from rabbet.tasks.imports import Imports

__all__ = ["ImportsView"]

_SHOWN = 3  # places of one finding
_TEST_GROUPS = (
    "tests",
    "test",
    "checks",
    "dev",
)  # a group for what tests need, by the names that it mostly has
_SAYS = {
    ImportKind.ABSENT: "no library of the project offers it",
    ImportKind.GROUP_ONLY: "the program needs it, and only a group brings it",
    ImportKind.UNDECLARED: "it is there by chance, and not declared",
    ImportKind.UNUSED: "nothing imports it",
    ImportKind.TESTS_ONLY: "only tests import it, and everybody gets it",
    ImportKind.SEVERAL: "which one is imported depends on the order of files",
    ImportKind.UNREADABLE: "it can't be read",
}


class ImportsView(Struct, frozen=True):
    """What is imported and not declared as it should be, and the other way round."""

    schema: ClassVar[str] = "imports"

    found: Imports

    def show(self, context: Context) -> None:
        """Print all findings, each with its reason and what mends it."""
        found = self.found
        otherwise = [
            one for one in found.findings if one.kind is ImportKind.UNUSED and one.weight is Weight.NOTE
        ]
        shown = [one for one in found.findings if one not in otherwise]
        if shown:
            style = context.style
            tones = {"breaks": style.bad, "differs": style.warning, "note": style.faint}
            rows = [(str(one.kind), one.name, str(one.weight), _where(one)) for one in shown]
            for line in table(("finding", "library", "weight", "imported in"), rows, style, tones=tones):
                context.show(line)
            context.show()
        for one in shown:
            context.show(f"{one.name}: {'; '.join(part for part in (_SAYS[one.kind], one.told) if part)}")
            mend = _mend(one, found.groups)
            if mend:
                context.show(f"  {mend}")
        if otherwise:
            names = ", ".join(one.name for one in otherwise)
            context.show(f"Not imported, and there for something else (--json tells what): {names}.")
        if found.findings:
            context.show()
        context.show(_outcome(found))

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "differs": self.found.differs,
            "files": self.found.files,
            "findings": [
                {
                    "kind": str(one.kind),
                    "name": one.name,
                    "weight": str(one.weight),
                    "modules": list(one.modules),
                    "places": list(one.places),
                    "says": _SAYS[one.kind],
                    "told": one.told,
                    "section": str(one.section) if one.section else None,
                    "mend": _mend(one, self.found.groups) or None,
                }
                for one in self.found.findings
            ],
        }


def _where(finding: ImportFinding) -> str:
    """The first places, and how many more there are."""
    more = len(finding.places) - _SHOWN
    shown = ", ".join(finding.places[:_SHOWN])
    return f"{shown} and {more} more" if more > 0 else shown


def _mend(finding: ImportFinding, groups: tuple[str, ...]) -> str:
    """The command that brings declaration and imports together, where there is one."""
    name = finding.name
    testing = next((f" --group {group}" for group in _TEST_GROUPS if group in groups), "")
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


def _outcome(found: Imports) -> str:
    files = count(found.files, "file")
    if not found.differs:
        noted = ", apart from what is noted above" if found.findings else ""
        return f"The imports of {files} are what the project declares{noted}."
    breaking = sum(one.weight is Weight.BREAKS for one in found.findings)
    severity = f", {breaking} of them breaking something" if breaking else ", nothing breaks"
    weighty = sum(one.weight is not Weight.NOTE for one in found.findings)
    return f"{count(weighty, 'finding')} in {files}{severity}."
