"""Words and signs of a census, shared by the terminal, the picture and the page."""

from collections.abc import Iterator, Sequence

from rabbet.core.census.matrix import Group, MachineState, Matrix
from rabbet.core.drift.mends import mends_of
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Weight
from rabbet.documents.amounts import count, day
from rabbet.documents.drifting.finding import detail, mend_command
from rabbet.tasks.drifting.census import Census, Development, LibraryOverTime
from rabbet.team.sheet import Cell, Column, Line, Sheet

__all__ = [
    "AS_LOCKED",
    "LEGEND",
    "cell_text",
    "doubts",
    "outcome_text",
    "rule_lines",
    "sheet_of",
    "state_text",
    "to_mend",
]

AS_LOCKED, UNKNOWN = ".", "?"
LEGEND = f"{AS_LOCKED} as locked  ! breaks something  ~ differs  - not there  + not locked  {UNKNOWN} unknown"
_SIGNS = {Weight.BREAKS: "!", Weight.DIFFERS: "~", Weight.NOTE: ""}
_UNKNOWN_WEIGHT = "unknown"
_SHOWN_LIBRARIES = 4


def cell_text(finding: Finding | None, group: Group) -> str:
    """How a library differs in a group, in a few characters."""
    if group.state.trouble:
        return UNKNOWN
    if finding is None or finding.weight is Weight.NOTE:
        return AS_LOCKED
    sign = _SIGNS[finding.weight]
    if finding.kind is Kind.MISSING and not finding.files:
        return f"- {sign}"
    if finding.subject == ENVIRONMENT or finding.installed is None:
        return f"{finding.kind} {sign}"
    if finding.kind is Kind.SURPLUS:
        return f"+{finding.installed} {sign}"
    if finding.kind in (Kind.VERSION, Kind.RUNTIME):
        return f"{finding.installed} {sign}"
    return f"{finding.kind} {sign}"


def state_text(state: MachineState) -> str:
    """A machine's state: the differences that set it apart, or that it is as locked."""
    if state.trouble:
        return state.trouble
    parts = []
    if state.behind:
        parts.append(f"{count(state.behind, 'lock revision')} behind")
    weighty = [
        finding
        for finding in state.findings
        if finding.weight is not Weight.NOTE and finding.kind is not Kind.STALE
    ]
    broken = sorted({name for finding in weighty for name in finding.breaks})
    if broken:
        parts.append(f"breaks {_some(broken)}")
    ruled = sorted({finding.name for finding in weighty if finding.kind is Kind.RULE})
    if ruled:
        parts.append(f"against the rules: {_some(ruled)}")
    by_hand = sorted({finding.name for finding in weighty if finding.by_hand})
    if by_hand:
        parts.append(f"by hand: {_some(by_hand)}")
    if weighty and not parts:
        parts.append(f"{count(len(weighty), 'library')} differ" if len(weighty) > 1 else "1 library differs")
    return "; ".join(parts) or "as locked"


def _some(names: Sequence[str]) -> str:
    return ", ".join(names[:_SHOWN_LIBRARIES]) + (" and more" if len(names) > _SHOWN_LIBRARIES else "")


def to_mend(state: MachineState, variant: str | None) -> str:
    """The command that mends a machine; empty where nothing is to be mended."""
    mends = mends_of(state.findings)
    return mend_command(mends, variant) if mends else ""


def outcome_text(matrix: Matrix) -> str:
    """How many machines are in which state."""
    breaking, differing = matrix.weighing(Weight.BREAKS), matrix.weighing(Weight.DIFFERS)
    parts = [
        f"{breaking} {'breaks' if breaking == 1 else 'break'} something",
        f"{differing} only {'differs' if differing == 1 else 'differ'}",
    ]
    unknown = matrix.unknown
    fitting = matrix.machines - breaking - differing - unknown
    told = f"{count(matrix.machines, 'machine')}: {fitting} as locked, {', '.join(parts)}"
    return f"{told}{f', {unknown} unknown' if unknown else ''}."


def rule_lines(matrix: Matrix) -> Iterator[str]:
    """A line for each rule that something installed breaks, and on which machines."""
    found: dict[str, list[str]] = {}
    for group in matrix.groups:
        for finding in group.state.findings:
            if finding.kind is Kind.RULE and finding.weight is not Weight.NOTE:
                told = f"{finding.name} {finding.installed}: {detail(finding)}"
                found.setdefault(told, []).extend(group.labels)
    for told, labels in sorted(found.items()):
        yield f"{told}: on {_some(labels)}"


def doubts(found: Census | Development | LibraryOverTime) -> Iterator[str]:
    """A sentence for each inventory that can't be read or believed."""
    for unread in found.unread:
        yield f"Can't be read: {unread.what}: {unread.because}"
    for label, when in found.ahead:
        yield f"{label} was recorded on {day(when)}, says its clock: that one or the clock here is wrong."


def sheet_of(census: Census, project: str, variant: str | None) -> Sheet:
    """The census as rows and columns, for the page and the picture."""
    matrix = census.matrix
    return Sheet(
        title=f"{project}: the machines against the lock",
        outcome=outcome_text(matrix),
        legend=LEGEND,
        columns=tuple(_column(group, variant) for group in matrix.groups),
        lines=tuple(
            Line(
                name=row.name,
                breaking=row.breaking,
                differing=row.differing,
                cells=tuple(
                    _sheet_cell(finding, group)
                    for finding, group in zip(row.cells, matrix.groups, strict=True)
                ),
            )
            for row in matrix.rows
        ),
        doubts=tuple(doubts(census)),
    )


def _column(group: Group, variant: str | None) -> Column:
    weight = group.state.weight
    return Column(
        name=group.name,
        labels=group.labels,
        text=state_text(group.state),
        mend=to_mend(group.state, variant),
        weight=_UNKNOWN_WEIGHT if group.state.trouble else str(weight) if weight else "",
    )


def _sheet_cell(finding: Finding | None, group: Group) -> Cell:
    if group.state.trouble:
        return Cell(text=UNKNOWN, weight=_UNKNOWN_WEIGHT, detail=f"unknown: {group.state.trouble}")
    if finding is None or finding.weight is Weight.NOTE:
        return Cell(text=AS_LOCKED)
    versions = f"locked {finding.locked or 'nothing'}, installed {finding.installed or 'nothing'}"
    parts = [f"{finding.kind}: {versions}"]
    if finding.breaks:
        parts.append(f"breaks {', '.join(finding.breaks)}")
    parts.append(detail(finding))
    told = "; ".join(part for part in parts if part)
    return Cell(text=cell_text(finding, group), weight=str(finding.weight), detail=told)
