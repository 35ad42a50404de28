"""What is installed here, against the lock.

Reads what is installed in .venv from its files alone, running nothing of it, and compares it with
pylock.toml. Exit code 0: no drift. 1: something differs.
"""

from argparse import ArgumentParser, Namespace

from rabbet.cli.context import Context
from rabbet.cli.options import add_json
from rabbet.cli.style import count, table
from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.errors import ExitCode
from rabbet.tasks.drift import Drift, drift


def add_arguments(parser: ArgumentParser) -> None:
    """Declare the command's arguments."""
    add_json(parser)


def run(arguments: Namespace, context: Context) -> int:
    """Compare and tell every difference."""
    found = drift(context.project(), context.machine)
    if arguments.json:
        context.show_json("drift", _document(found))
    else:
        _show(found, context)
    return ExitCode.NO if found.differs else ExitCode.DONE


def _show(found: Drift, context: Context) -> None:
    if found.findings:
        style = context.style
        tones = {"breaks": style.bad, "differs": style.warning, "note": style.faint}
        headings = ("finding", "library", "locked", "installed", "weight", "breaks")
        rows = [_row(finding) for finding in found.findings]
        for line in table(headings, rows, style, tones=tones):
            context.show(line)
        for finding in found.findings:
            if finding.detail:
                context.show(f"  {finding.name}: {finding.detail}")
        context.show()
    context.show(_outcome(found))


def _row(finding: Finding) -> tuple[str, ...]:
    return (
        str(finding.kind),
        finding.name,
        finding.locked or "-",
        finding.installed or "-",
        str(finding.weight),
        ", ".join(finding.breaks),
    )


def _outcome(found: Drift) -> str:
    if not found.differs:
        noted = ", apart from what is noted above" if found.findings else ""
        return f"No drift: {count(found.compared, 'library')} as locked{noted}."
    breaking = sum(finding.weight is Weight.BREAKS for finding in found.findings)
    severity = f", {breaking} of them breaking something" if breaking else ", nothing breaks"
    unresolved = any(finding.kind is Kind.UNRESOLVED for finding in found.findings)
    mend = "rabbet resolve && rabbet recreate" if unresolved else "rabbet recreate"
    return f"{count(len(found.findings), 'finding')}{severity}. To mend: {mend}"


def _document(found: Drift) -> dict[str, object]:
    return {
        "differs": found.differs,
        "compared": found.compared,
        "findings": [
            {
                "kind": str(finding.kind),
                "name": finding.name,
                "locked": finding.locked or None,
                "installed": finding.installed or None,
                "weight": str(finding.weight),
                "breaks": list(finding.breaks),
                "detail": finding.detail,
            }
            for finding in found.findings
        ],
    }
