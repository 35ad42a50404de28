"""The view of `imports`."""

from rabbet.cli.context import Context
from rabbet.core.model.finding import Weight
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count
from rabbet.documents.drifting.imports import SAYS, ImportsDocument, mend_of_imports
from rabbet.python.code.imports import ImportFinding, ImportKind
from rabbet.python.code.words import cause_text
from rabbet.tasks.drifting.imports import Imports

__all__ = ["ImportsView"]

_SHOWN = 3  # places of one finding


class ImportsView(ImportsDocument, frozen=True):
    """Imports without a fitting declaration, and declarations without an import."""

    def show(self, context: Context) -> None:
        """Print all findings, each with its reason and what mends it."""
        found = self.found
        otherwise = [
            finding
            for finding in found.findings
            if finding.kind is ImportKind.UNUSED and finding.weight is Weight.NOTE
        ]
        shown = [finding for finding in found.findings if finding not in otherwise]
        if shown:
            style = context.style
            tones = {"breaks": style.bad, "differs": style.warning, "note": style.faint}
            rows = [
                (str(finding.kind), finding.name, str(finding.weight), _where(finding)) for finding in shown
            ]
            context.show_table(("finding", "library", "weight", "imported in"), rows, tones=tones)
            context.show()
        for finding in shown:
            parts = (SAYS[finding.kind], cause_text(finding.cause))
            context.show(f"{finding.name}: {'; '.join(part for part in parts if part)}")
            mend = mend_of_imports(finding, found.groups)
            if mend:
                context.show(f"  {mend}")
        if otherwise:
            names = ", ".join(finding.name for finding in otherwise)
            context.show(f"Not imported, and there for something else (--json tells what): {names}.")
        if found.findings:
            context.show()
        context.show(_outcome(found))


def _where(finding: ImportFinding) -> str:
    """The first places, and how many more there are."""
    return some_of(finding.places, _SHOWN)


def _outcome(found: Imports) -> str:
    files = count(found.files, "file")
    if not found.files:
        return "There is no code here to compare with: no .py or .ipynb file was found."
    if not found.differs:
        noted = ", apart from what is noted above" if found.findings else ""
        return f"The imports of {files} are what the project declares{noted}."
    breaking = sum(finding.weight is Weight.BREAKS for finding in found.findings)
    severity = f", {breaking} of them breaking something" if breaking else ", nothing breaks"
    weighty = sum(finding.weight is not Weight.NOTE for finding in found.findings)
    return f"{count(weighty, 'finding')} in {files}{severity}."
