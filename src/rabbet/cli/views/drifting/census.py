"""The views of `census`: recorded, sent, collected, and the census itself."""

from collections.abc import Iterator, Sequence
from itertools import islice

from rabbet.cli.context import Context
from rabbet.cli.views.drifting.census_words import (
    LEGEND,
    cell_text,
    doubts,
    heard_text,
    outcome_text,
    rule_lines,
    silent_text,
    state_text,
    to_mend,
)
from rabbet.core.census.matrix import Group, MachineState, Matrix, Row
from rabbet.core.census.tags import tags_text
from rabbet.core.shell import quoted
from rabbet.core.shown_text import some_of
from rabbet.documents.amounts import count, day
from rabbet.documents.drifting.census import (
    CensusDocument,
    ChangedDocument,
    CheckDocument,
    CollectedDocument,
    DevelopmentDocument,
    LibraryDocument,
    MachineDocument,
    RecordedDocument,
)
from rabbet.documents.drifting.finding import detail
from rabbet.formats.text.csv_text import csv_lines
from rabbet.tasks.drifting.census import Census

__all__ = [
    "CensusView",
    "ChangedView",
    "CheckView",
    "CollectedView",
    "DevelopmentView",
    "LibraryView",
    "MachineView",
    "RecordedView",
    "show_csv",
]

_SHOWN_GROUPS, _SHOWN_LABELS, _SHOWN_LIBRARIES, _SHOWN_ROWS = 20, 4, 4, 40
_WIDTH = 80  # where nobody tells how wide the output is


class RecordedView(RecordedDocument, frozen=True):
    """An inventory that was written, or sent."""

    def show(self, context: Context) -> None:
        """Print one sentence."""
        machine = self.found.inventory
        libraries = count(len(machine.inventory.libraries), "library")
        what = f"the inventory of {machine.label}: {libraries}, Python {machine.python}"
        if self.sent:
            where = self.found.where
            if "://" in where:
                context.show(f"Sent {what}, to {where}. Next: rabbet census show")
            else:
                following = f"rabbet census collect{_through(where)}"
                context.show(f"Sent {what}, through '{where}'. Next: {following}")
        else:
            context.show(f"Wrote {self.found.where}, {what}.")


def _through(remote: str) -> str:
    """The option that names a remote, where it is not the usual one."""
    return "" if remote == "origin" else f" --remote {quoted(remote)}"


class CollectedView(CollectedDocument, frozen=True):
    """The inventories that came through a remote."""

    def show(self, context: Context) -> None:
        """Print one sentence."""
        found = self.found
        if not found.machines:
            following = f"rabbet census send{_through(found.remote)}"
            context.show(f"Nobody has sent anything through '{found.remote}' yet. Next: {following}")
            return
        kept = count(found.inventories, "inventory")
        machines = count(found.machines, "machine")
        context.show(f"Collected {kept} of {machines} from '{found.remote}'. Next: rabbet census show")


class ChangedView(ChangedDocument, frozen=True):
    """A machine that was forgotten, or renamed."""

    def show(self, context: Context) -> None:
        """Print one sentence."""
        if not self.where:
            asked = "" if context.interactive else " To forget it without being asked, add --yes."
            context.show(f"Nothing was changed.{asked}")
        elif self.new is None:
            context.show(f"Forgot {self.label}, in '{self.where}'.")
        else:
            context.show(f"{self.label} is called {self.new} now, in '{self.where}'.")


class CensusView(CensusDocument, frozen=True):
    """The matrix of what differs × groups of machines."""

    def show(self, context: Context) -> None:
        """Print the matrix as far as it fits, then a line for each group."""
        matrix, style = self.found.matrix, context.style
        fitting = _fitting(matrix, style.width or _WIDTH)
        if matrix.rows:
            headings = ["library", *(group.name for group in fitting)]
            rows = [[row.name, *_cells(row, fitting)] for row in matrix.rows[:_SHOWN_ROWS]]
            tones = {
                text: style.bad if text.endswith("!") else style.warning
                for row in rows
                for text in row[1:]
                if text.endswith(("!", "~"))
            }
            context.show_table(headings, rows, tones=tones)
            if len(matrix.rows) > _SHOWN_ROWS:
                context.show(f"and {len(matrix.rows) - _SHOWN_ROWS} more libraries (see --csv, --json)")
            context.show(LEGEND)
            context.show()
        for group in matrix.groups[:_SHOWN_GROUPS]:
            context.show(f"{group.name}  {_group_text(group, self.variant, self.found.made)}")
        for line in islice(rule_lines(matrix), _SHOWN_ROWS):
            context.show(line)
        hidden = matrix.groups[_SHOWN_GROUPS:]
        if hidden or len(fitting) < len(matrix.groups):
            context.show(f"{_hidden_text(matrix, len(fitting), hidden)} (see --csv, --json)")
        for doubt in doubts(self.found):
            context.show(doubt)
        context.show()
        context.show(outcome_text(matrix))
        if self.found.silent:
            context.show(silent_text(self.found))
        if self.drawn:
            context.show(f"Wrote {' and '.join(path.name for path in self.drawn)}.")


def _cells(row: Row, groups: Sequence[Group]) -> list[str]:
    """The cells of the first groups, which may be all of them."""
    return [cell_text(cell, group) for cell, group in zip(row.cells, groups, strict=False)]


def _fitting(matrix: Matrix, width: int) -> Sequence[Group]:
    """The groups whose columns fit beside the libraries' names."""
    used = max((len(row.name) for row in matrix.rows), default=0)
    for number, group in enumerate(matrix.groups):
        cells = (cell_text(row.cells[number], group) for row in matrix.rows[:_SHOWN_ROWS])
        used += 2 + max(len(group.name), *map(len, cells), 0)
        if used > width and number:
            return matrix.groups[:number]
    return matrix.groups


def _group_text(group: Group, variant: str | None, now: float) -> str:
    """Who is in a group, when they were heard of, what sets it apart, and what mends it."""
    who = f"{count(len(group.labels), 'machine')}: {some_of(group.labels, _SHOWN_LABELS)}"
    heard = heard_text(group.recorded, now)
    return f"{who}{f' ({heard})' if heard else ''}: {_told(group.state, variant)}"


def _told(state: MachineState, variant: str | None) -> str:
    mend = to_mend(state, variant)
    return f"{state_text(state)}. To mend: {mend}" if mend else state_text(state)


def _hidden_text(matrix: Matrix, columns: int, hidden: Sequence[Group]) -> str:
    parts = []
    if columns < len(matrix.groups):
        parts.append(f"{count(len(matrix.groups) - columns, 'column')} did not fit")
    if hidden:
        machines = count(sum(len(group.labels) for group in hidden), "machine")
        parts.append(f"{count(len(hidden), 'more group')} of {machines}")
    return " and ".join(parts).capitalize()


def show_csv(census: Census, context: Context) -> None:
    """Print the matrix for other programs: a row a library, a column a group."""
    matrix = census.matrix
    headings = ["library", *(f"{group.name}: {' '.join(group.labels)}" for group in matrix.groups)]
    heard = [" ".join(day(when) if when else "-" for when in group.recorded) for group in matrix.groups]
    rows = [["(last heard of)", *heard], *([row.name, *_cells(row, matrix.groups)] for row in matrix.rows)]
    for line in csv_lines(headings, rows):
        context.show(line)
    for line in doubts(census):
        context.note(line)


class MachineView(MachineDocument, frozen=True):
    """All that differs on one machine."""

    variant: str | None

    def show(self, context: Context) -> None:
        """Print its findings and what mends them."""
        state, style = self.state, context.style
        if state.findings:
            rows = [
                (
                    str(finding.kind),
                    finding.name,
                    str(finding.locked or "-"),
                    str(finding.installed or "-"),
                    str(finding.weight),
                    ", ".join(finding.breaks),
                )
                for finding in state.findings
            ]
            headings = ("finding", "library", "locked", "installed", "weight", "breaks")
            tones = {"breaks": style.bad, "differs": style.warning, "note": style.faint}
            context.show_table(headings, rows, tones=tones)
            for finding in state.findings:
                if detail(finding):
                    context.show(f"  {finding.name}: {detail(finding)}")
            context.show()
        when = f", recorded on {day(state.recorded)}" if state.recorded else ""
        tags = f" ({tags_text(state.tags)})" if state.tags else ""
        context.show(f"{state.label}{tags}{when}: {_told(state, self.variant)}")


class LibraryView(LibraryDocument, frozen=True):
    """One library on all machines, over time."""

    def show(self, context: Context) -> None:
        """Print each change."""
        found = self.found
        rows = [(day(when), label, version or "-") for label, when, version in found.changes]
        if rows:
            context.show_table(("since", "machine", found.name), rows)
            context.show()
        for doubt in doubts(found):
            context.show(doubt)
        locked = " and ".join(found.locked) or "not locked"
        context.show(f"{found.name} is {f'locked at {locked}' if found.locked else locked}.")


class DevelopmentView(DevelopmentDocument, frozen=True):
    """Who came into which state, and when."""

    def show(self, context: Context) -> None:
        """Print a line for each change."""
        states = self.found.states
        rows = [(day(state.recorded), state.label, state_text(state)) for state in states]
        if rows:
            context.show_table(("recorded", "machine", "against the lock of today"), rows)
            context.show()
        for doubt in doubts(self.found):
            context.show(doubt)
        machines = len({state.label for state in states})
        context.show(f"{count(len(states), 'change')} on {count(machines, 'machine')} since then.")


class CheckView(CheckDocument, frozen=True):
    """Whether more machines break than are allowed, fit for a chat message."""

    def show(self, context: Context) -> None:
        """Print a few lines."""
        for line in self._lines():
            context.show(line)

    def _lines(self) -> Iterator[str]:
        matrix = self.found.matrix
        yield outcome_text(matrix)
        worst = [row for row in matrix.rows if row.breaking][:_SHOWN_LIBRARIES]
        for row in worst:
            yield f"  {row.name} breaks {count(row.breaking, 'machine')}"
        yield from (f"  {line}" for line in islice(rule_lines(matrix), _SHOWN_ROWS))
        for group in matrix.groups:
            if group.state.trouble:
                yield f"  unknown: {', '.join(group.labels)}: {group.state.trouble}"
        yield from (f"  {line}" for line in doubts(self.found))
        heard = heard_text((when for group in matrix.groups for when in group.recorded), self.found.made)
        if heard:
            yield f"  last {heard}"
        if self.found.silent:
            yield f"  {silent_text(self.found)}"
        verdict = "more than" if self.too_many else "within"
        yield f"That is {verdict} what is allowed: {self.allowed}."
