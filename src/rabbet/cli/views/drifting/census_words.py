"""Words and signs of a census, shared by the terminal, the picture and the page."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime

from rabbet.core.census.expected import REVISION
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
    "heard_text",
    "made_text",
    "outcome_text",
    "rule_lines",
    "sheet_of",
    "silent_text",
    "state_text",
    "to_mend",
]

AS_LOCKED, UNKNOWN = ".", "?"
LEGEND = f"{AS_LOCKED} as locked  ! breaks something  ~ differs  - not there  + not locked  {UNKNOWN} unknown"
_SIGNS = {Weight.BREAKS: "!", Weight.DIFFERS: "~", Weight.NOTE: ""}
_UNKNOWN_WEIGHT = "unknown"
_SHOWN_LIBRARIES = 4
_BEYOND_LOCK = (Kind.RULE, Kind.UNEXPECTED)  # a machine that is as locked may have such findings
_DAY = 86400


def cell_text(finding: Finding | None, group: Group) -> str:
    """How a library differs in a group, in a few characters."""
    if group.state.trouble:
        return UNKNOWN
    if finding is None or finding.weight is Weight.NOTE:
        return AS_LOCKED
    sign = _SIGNS[finding.weight]
    if finding.kind is Kind.MISSING and not finding.files:
        return f"- {sign}"
    if finding.subject == REVISION:
        return f"{UNKNOWN if group.state.behind is None else group.state.behind} behind {sign}"
    if finding.subject == ENVIRONMENT or finding.installed is None:
        return f"{finding.kind} {sign}"
    if finding.kind is Kind.SURPLUS:
        return f"+{finding.installed} {sign}"
    if finding.kind in (Kind.VERSION, Kind.RUNTIME, Kind.UNEXPECTED):
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
    unexpected = sorted({finding.name for finding in weighty if finding.kind is Kind.UNEXPECTED})
    if unexpected:
        parts.append(f"not as expected: {_some(unexpected)}")
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


def heard_text(recorded: Iterable[int], now: float) -> str:
    """When machines were last heard of, in days: such as `heard of today`; empty where nobody tells."""
    days = sorted({max(0, int((now - when) // _DAY)) for when in recorded if when})
    if not days:
        return ""
    first, last = days[0], days[-1]
    if not last:
        return "heard of today"
    ago = f"{count(last, 'day')} ago"
    return f"heard of {ago}" if first == last else f"heard of {first or 'today'} to {ago}"


def made_text(census: Census) -> str:
    """When a census was made, and which revision of the lock it was compared with."""
    when = datetime.fromtimestamp(census.made, UTC)
    lock = census.held_against
    against = "a lock that is not committed"
    if lock is not None and lock.commit:
        against = f"the lock of {day(lock.when)} (git {lock.commit[:10]})"
    return f"Made on {when:%Y-%m-%d} at {when:%H:%M} UTC, against {against}."


def silent_text(census: Census) -> str:
    """The machines that were left out because nothing was heard of them; empty where there are none."""
    if not census.silent:
        return ""
    names = [f"{machine.label} ({day(machine.recorded)})" for machine in census.silent]
    return f"Left out, because not heard of since: {count(len(names), 'machine')}: {_some(names)}."


def outcome_text(matrix: Matrix) -> str:
    """How many machines are in which state."""
    breaking, differing = matrix.weighing(Weight.BREAKS), matrix.weighing(Weight.DIFFERS)
    parts = [
        f"{breaking} {'breaks' if breaking == 1 else 'break'} something",
        f"{differing} only {'differs' if differing == 1 else 'differ'}",
    ]
    unknown = matrix.unknown
    fitting = matrix.machines - breaking - differing - unknown
    beyond = any(
        finding.kind in _BEYOND_LOCK and finding.weight is not Weight.NOTE
        for group in matrix.groups
        for finding in group.state.findings
    )
    fine = "without findings" if beyond else "as locked"
    told = f"{count(matrix.machines, 'machine')}: {fitting} {fine}, {', '.join(parts)}"
    return f"{told}{f', {unknown} unknown' if unknown else ''}."


def rule_lines(matrix: Matrix) -> Iterator[str]:
    """A line for each rule that something installed breaks, and each expectation not met, with machines."""
    found: dict[str, list[str]] = {}
    for group in matrix.groups:
        for finding in group.state.findings:
            if finding.kind in _BEYOND_LOCK and finding.weight is not Weight.NOTE:
                version = f" {finding.installed}" if finding.installed else ""
                told = f"{finding.name}{version}: {detail(finding)}"
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
        doubts=tuple(filter(None, (silent_text(census), *doubts(census)))),
        made=made_text(census),
    )


def _column(group: Group, variant: str | None) -> Column:
    weight = group.state.weight
    return Column(
        name=group.name,
        labels=group.labels,
        heard=tuple(day(when) if when else "" for when in group.recorded),
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
