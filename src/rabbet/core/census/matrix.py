"""The machines of a team × the lock → groups of machines in the same state, and how each library differs.

Columns are groups: machines whose findings are the same. Rows are what differs in any of them, those first
that break the most machines.
"""

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct, field
from msgspec.structs import replace

from rabbet.core.census.tags import Tags
from rabbet.core.drift.mends import Mend, mends_of
from rabbet.core.model.finding import Finding, Kind, Subject, Weight

__all__ = ["Group", "MachineState", "Matrix", "Row", "matrix_of", "reordered"]

_WEIGHTS = list(Weight)


class MachineState(Struct, frozen=True, kw_only=True):
    """How one machine differs: its findings, and how many revisions of the lock it is `behind`, if known.

    It was recorded at a time in seconds since the epoch, with `tags`, which are no part of its state. A
    machine whose record can't be compared has `trouble`.
    """

    label: str
    recorded: int
    findings: tuple[Finding, ...] = ()
    behind: int | None = None
    trouble: str = ""
    tags: Tags = field(default_factory=dict)

    @property
    def weight(self) -> Weight | None:
        """That of its weightiest finding."""
        return min((finding.weight for finding in self.findings), key=_WEIGHTS.index, default=None)

    @property
    def key(self) -> tuple[object, ...]:
        """The grouping key: equal for machines in the same state."""
        found = {
            (finding.kind, finding.subject, finding.locked, finding.installed, finding.weight)
            for finding in self.findings
        }
        ordered = sorted((str(kind), about, str(a), str(b), str(w)) for kind, about, a, b, w in found)
        return (*ordered, self.behind, self.trouble)


class Group(Struct, frozen=True, kw_only=True):
    """Machines in the same state, by their labels, under a short name such as `A`.

    Each was `recorded` at a time in seconds since the epoch, in the order of the labels (0: nobody tells).
    """

    name: str
    labels: tuple[str, ...]
    state: MachineState
    recorded: tuple[int, ...] = ()

    @property
    def cells(self) -> Mapping[Subject, Finding]:
        """The weightiest finding about each subject; that a machine is behind is no library's affair."""
        found: dict[Subject, Finding] = {}
        for finding in sorted(self.state.findings, key=lambda finding: _WEIGHTS.index(finding.weight)):
            if finding.kind is not Kind.STALE:
                found.setdefault(finding.subject, finding)
        return found

    @property
    def mends(self) -> frozenset[Mend]:
        """The actions that mend all findings above notes."""
        return mends_of(self.state.findings)


class Row(Struct, frozen=True, kw_only=True):
    """One subject that differs somewhere, and on how many machines it breaks something or only differs."""

    subject: Subject
    breaking: int
    differing: int
    cells: tuple[Finding | None, ...]

    @property
    def name(self) -> str:
        """The subject's name."""
        return self.subject.name


class Matrix(Struct, frozen=True, kw_only=True):
    """All machines of a census against one lock."""

    groups: tuple[Group, ...]
    rows: tuple[Row, ...]

    @property
    def machines(self) -> int:
        """How many there are."""
        return sum(len(group.labels) for group in self.groups)

    @property
    def unknown(self) -> int:
        """How many machines can't be compared with the lock."""
        return sum(len(group.labels) for group in self.groups if group.state.trouble)

    def weighing(self, *weights: Weight) -> int:
        """On how many machines the weightiest finding is one of these."""
        return sum(len(group.labels) for group in self.groups if group.state.weight in weights)


def matrix_of(states: Iterable[MachineState]) -> Matrix:
    """Group machines in the same state: the largest groups first, those as locked before all others."""
    alike: defaultdict[tuple[object, ...], list[MachineState]] = defaultdict(list)
    for state in sorted(states, key=lambda state: (state.label, state.recorded)):
        alike[state.key].append(state)
    ordered = sorted(
        alike.values(),
        key=lambda some: (_rank(some[0]), -len(some), some[0].label),
    )
    groups = tuple(
        Group(
            name=_letters(number),
            labels=tuple(state.label for state in some),
            state=some[0],
            recorded=tuple(state.recorded for state in some),
        )
        for number, some in enumerate(ordered)
    )
    return Matrix(groups=groups, rows=tuple(_rows(groups)))


def reordered(matrix: Matrix, order: Sequence[int]) -> Matrix:
    """The same with its groups in another order, and named after that."""
    groups = tuple(replace(matrix.groups[old], name=_letters(new)) for new, old in enumerate(order))
    rows = tuple(replace(row, cells=tuple(row.cells[old] for old in order)) for row in matrix.rows)
    return Matrix(groups=groups, rows=rows)


def _rank(state: MachineState) -> int:
    """Those as locked come first, then the lighter ones; what can't be compared comes last."""
    if state.trouble:
        return len(_WEIGHTS) + 1
    return len(_WEIGHTS) - (_WEIGHTS.index(state.weight) if state.weight else len(_WEIGHTS))


def _rows(groups: Sequence[Group]) -> list[Row]:
    cells = [group.cells for group in groups]
    subjects = {
        subject for found in cells for subject, finding in found.items() if finding.weight is not Weight.NOTE
    }
    rows = []
    for subject in subjects:
        row = tuple(found.get(subject) for found in cells)
        weighed = [(len(group.labels), cell.weight) for group, cell in zip(groups, row, strict=True) if cell]
        rows.append(
            Row(
                subject=subject,
                breaking=sum(count for count, weight in weighed if weight is Weight.BREAKS),
                differing=sum(count for count, weight in weighed if weight is Weight.DIFFERS),
                cells=row,
            )
        )
    return sorted(rows, key=lambda row: (-row.breaking, -row.differing, row.name, row.subject))


def _letters(number: int) -> str:
    """`A` to `Z`, then `AA` and so on."""
    name = ""
    number += 1
    while number:
        number, rest = divmod(number - 1, 26)
        name = chr(ord("A") + rest) + name
    return name
