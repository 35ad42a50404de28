"""The view of `compare`."""

from collections import Counter
from collections.abc import Iterator, Sequence

from packaging.version import Version

from rabbet.cli.context import Context
from rabbet.cli.views.drifting.rules import breach_text
from rabbet.core.lock.differences import DeclaredChange, DifferenceKind
from rabbet.documents.resolving.compare import CompareDocument
from rabbet.tasks.resolving.compare import Compared

__all__ = ["CompareView", "show_markdown"]


class CompareView(CompareDocument, frozen=True):
    """The differences between two locks, each with the declared change that caused it."""

    def show(self, context: Context) -> None:
        """Print all differences, then their number by kind."""
        compared = self.compared
        if compared.differences:
            style = context.style
            tones = {
                "added": style.good,
                "removed": style.bad,
                "raised": style.good,
                "lowered": style.warning,
            }
            rows = [
                (
                    str(difference.kind),
                    difference.name,
                    _version(difference.before),
                    _version(difference.after),
                    difference.cause,
                )
                for difference in compared.differences
            ]
            headings = ("change", "library", "before", "after", "cause")
            context.show_table(headings, rows, tones=tones)
            context.show()
        for line in _rule_lines(compared):
            context.show(line)
        context.show(f"{_outcome(compared)} between {compared.old} and {compared.new}.")


def _rule_lines(compared: Compared) -> Iterator[str]:
    """What the change opens and closes by the rules of today, a line each."""
    for word, breaches in (("Opens", compared.opened), ("Closes", compared.closed)):
        for breach in breaches:
            noted = "" if breach.refuses else " (a note)"
            yield f"{word}: {breach_text(breach)}{noted}."
    if compared.unknown_rules:
        yield f"What it opens or closes by the rules can't be told: {compared.unknown_rules}."


def show_markdown(compared: Compared, context: Context) -> None:
    """Print the differences as Markdown."""
    context.show(f"**Locked libraries:** {_outcome(compared)} between `{compared.old}` and `{compared.new}`.")
    if compared.declared:
        context.show()
        context.show("Declared:")
        context.show()
        for change in compared.declared:
            context.show(f"- {_declared(change)}")
    rules = list(_rule_lines(compared))
    if rules:
        context.show()
        for line in rules:
            context.show(f"- {line}")
    if compared.differences:
        context.show()
        context.show("| change | library | before | after | cause |")
        context.show("|---|---|---|---|---|")
        for difference in compared.differences:
            cells = (
                str(difference.kind),
                f"`{difference.name}`",
                _version(difference.before),
                _version(difference.after),
                _cell(difference.cause),
            )
            context.show(f"| {' | '.join(cells)} |")


def _outcome(compared: Compared) -> str:
    counts = Counter(difference.kind for difference in compared.differences)
    words = {**{kind: str(kind) for kind in DifferenceKind}, DifferenceKind.FILES: "with other files"}
    told = [f"{counts[kind]} {words[kind]}" for kind in DifferenceKind if counts[kind]]
    return ", ".join(told) or "no difference"


def _declared(change: DeclaredChange) -> str:
    if not change.before:
        return f"`{change.after}` added"
    return f"`{change.before}` → `{change.after}`" if change.after else f"`{change.before}` retracted"


def _version(versions: Sequence[Version]) -> str:
    return ", ".join(map(str, versions)) or "-"


def _cell(text: str) -> str:
    """A text as it may stand in a table's cell."""
    return text.replace("|", "\\|")
