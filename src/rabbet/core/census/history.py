"""A team over time: one row a day, shares by week, when locks reached the machines, and what is new.

Everything is compared with the lock of today, but for the rows of days, which say how it was then.
"""

import math
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from datetime import date, timedelta
from typing import NamedTuple

from msgspec import Struct, field

from rabbet.core.census.matrix import MachineState, Matrix
from rabbet.core.model.finding import About, Finding, Kind, Weight

__all__ = [
    "Arrived",
    "Changed",
    "Day",
    "Known",
    "News",
    "Reached",
    "Week",
    "day_of",
    "known_of",
    "newest_then",
    "news_of",
    "reached",
    "weeks_of",
]


class Day(Struct, frozen=True, kw_only=True):
    """How many machines were in which state on a day (ISO form), by the lock of that day.

    `behind` counts machines by the number of lock revisions that they are behind, which is written as a text.
    Rules are broken on so many machines that are `vulnerable`; `None` where they were not judged.
    """

    day: str
    lock: str = ""
    machines: int = 0
    as_locked: int = 0
    differing: int = 0
    breaking: int = 0
    unknown: int = 0
    silent: int = 0
    behind: Mapping[str, int] = field(default_factory=dict)
    vulnerable: int | None = None


class Week(Struct, frozen=True, kw_only=True):
    """The last day of a week (which begins on a Monday) that is known, and the share that was as locked."""

    begins: str
    last: Day

    @property
    def share(self) -> float:
        """The share of machines that was as locked, from 0 to 1; 0 where there was none."""
        return self.last.as_locked / self.last.machines if self.last.machines else 0.0


class Reached(Struct, frozen=True, kw_only=True):
    """When a lock, or a newer one, had reached half and nine tenths of the machines; `None`: not yet.

    It was committed at a time in seconds since the epoch, as all times here.
    """

    commit: str
    committed: int
    machines: int
    half: int | None
    nine_tenths: int | None


class Arrived(NamedTuple):
    """A record of a machine, when it was made by the machine's clock, and its number as it arrived."""

    label: str
    recorded: int
    number: int


class Known(Struct, frozen=True):
    """What somebody knew at a time.

    `records` has the newest record of each machine: when it was made, and its place among those of the same
    second, from 1. Without them, all that was recorded until then was known.
    """

    at: int
    records: Mapping[str, tuple[int, int]] | None = None


class Changed(Struct, frozen=True, kw_only=True):
    """A machine that came into another state, when it was recorded in it, and what that is about."""

    label: str
    recorded: int
    about: tuple[str, ...] = ()


class News(Struct, frozen=True, kw_only=True):
    """What is new since a time: machines that `broke`, were `mended`, fell `silent`, or are `added`.

    `libraries` differ on some machine, and did on none before.
    """

    since: int
    broke: tuple[Changed, ...] = ()
    mended: tuple[Changed, ...] = ()
    silent: tuple[Changed, ...] = ()
    added: tuple[Changed, ...] = ()
    libraries: tuple[str, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether nothing is new."""
        return not (self.broke or self.mended or self.silent or self.added or self.libraries)


def day_of(matrix: Matrix, today: date, lock: str, *, silent: int = 0, judged: bool = False) -> Day:
    """The row of a day; what rules say counts where machines were `judged` by them."""
    behind: Counter[str] = Counter()
    vulnerable = 0
    for group in matrix.groups:
        if group.state.behind is not None:
            behind[str(group.state.behind)] += len(group.labels)
        if any(_weighs(finding) and finding.kind is Kind.RULE for finding in group.state.findings):
            vulnerable += len(group.labels)
    breaking, differing = matrix.weighing(Weight.BREAKS), matrix.weighing(Weight.DIFFERS)
    return Day(
        day=str(today),
        lock=lock,
        machines=matrix.machines,
        as_locked=matrix.machines - breaking - differing - matrix.unknown,
        differing=differing,
        breaking=breaking,
        unknown=matrix.unknown,
        silent=silent,
        behind=dict(sorted(behind.items(), key=lambda pair: int(pair[0]))),
        vulnerable=vulnerable if judged else None,
    )


def weeks_of(days: Iterable[Day], since: date) -> list[Week]:
    """The weeks since a date that anything is known of, oldest first."""
    found: dict[date, Day] = {}
    for known in sorted(days, key=lambda known: known.day):
        when = date.fromisoformat(known.day)
        if when >= since:
            found[when - timedelta(days=when.weekday())] = known
    return [Week(begins=str(begins), last=last) for begins, last in sorted(found.items())]


def reached(locks: Sequence[tuple[str, int, str]], records: Iterable[tuple[str, int, str]]) -> list[Reached]:
    """When each lock had reached the machines; `locks` are commits, their times and stamps, newest first.

    `records` are labels, times and the stamp of the lock that the machine was made from then. A machine has
    been reached by a lock when it has that or a newer one.
    """
    place = {stamp: number for number, (_, _, stamp) in enumerate(locks)}
    first: dict[str, dict[int, int]] = {}
    for label, when, stamp in records:
        here = first.setdefault(label, {})
        if stamp in place:
            number = place[stamp]
            here[number] = min(when, here.get(number, when))
    found = []
    for number, (commit, committed, _) in enumerate(locks):
        times = sorted(
            min(when for other, when in here.items() if other <= number)
            for here in first.values()
            if any(other <= number for other in here)
        )
        found.append(
            Reached(
                commit=commit,
                committed=committed,
                machines=len(times),
                half=_after(times, len(first), 0.5),
                nine_tenths=_after(times, len(first), 0.9),
            )
        )
    return found


def _after(times: Sequence[int], machines: int, share: float) -> int | None:
    """When so large a share of the machines was reached; `None` where it is not yet."""
    wanted = math.ceil(machines * share)
    return times[wanted - 1] if 0 < wanted <= len(times) else None


def known_of(arrived: Iterable[Arrived], at: int) -> Known:
    """What is known to somebody who was told all of these."""
    ordered = sorted(arrived, key=lambda record: record.number)
    newest = {record.label: record.recorded for record in ordered}
    of_that_second = Counter(record.label for record in ordered if record.recorded == newest[record.label])
    return Known(at, {label: (when, of_that_second[label]) for label, when in newest.items()})


def newest_then(arrived: Iterable[Arrived], known: Known) -> dict[str, int]:
    """The number of the record of each machine that was the newest one when that was known.

    Of a machine whose record is not kept any more, the oldest one that is stands for it.
    """
    found: dict[str, int] = {}
    oldest: dict[str, int] = {}
    seen: Counter[str] = Counter()
    for label, recorded, number in sorted(arrived, key=lambda record: record.number):
        oldest.setdefault(label, number)
        if known.records is None:
            if recorded <= known.at:
                found[label] = number
            continue
        when, count = known.records.get(label, (None, 0))
        if recorded == when and seen[label] < count:
            seen[label] += 1
            found[label] = number
    return {**{label: oldest[label] for label in known.records or () if label in oldest}, **found}


def news_of(
    then: Mapping[str, MachineState],
    now: Mapping[str, MachineState],
    *,
    since: int,
    at: int,
    silent_after: int,
) -> News:
    """What is new: the states of machines by label, as of `since` and as of now (`at`), by the same lock.

    One is silent that was not recorded for `silent_after` seconds.
    """
    broke, mended, silent, added = [], [], [], []
    for label, state in sorted(now.items()):
        before = then.get(label)
        changed = Changed(label=label, recorded=state.recorded, about=_about(state))
        if before is None:
            added.append(changed)
        if _breaks(state) and (before is None or not _breaks(before)):
            broke.append(changed)
        elif before is not None and _breaks(before) and not _breaks(state):
            mended.append(Changed(label=label, recorded=state.recorded, about=_about(before)))
        if since - silent_after <= state.recorded < at - silent_after:
            silent.append(Changed(label=label, recorded=state.recorded))
    differing = {name for state in now.values() for name in _differing(state)}
    known = {name for state in then.values() for name in _differing(state)}
    return News(
        since=since,
        broke=tuple(broke),
        mended=tuple(mended),
        silent=tuple(silent),
        added=tuple(added),
        libraries=tuple(sorted(differing - known)) if then else (),
    )


def _breaks(state: MachineState) -> bool:
    return state.weight is Weight.BREAKS or bool(state.trouble)


def _about(state: MachineState) -> tuple[str, ...]:
    """What breaks on a machine, or why that is not known."""
    names = (finding.name for finding in state.findings if finding.weight is Weight.BREAKS)
    return (state.trouble,) if state.trouble else tuple(dict.fromkeys(names))


def _differing(state: MachineState) -> set[str]:
    """The libraries that differ on a machine."""
    return {
        finding.name
        for finding in state.findings
        if _weighs(finding) and finding.subject.about is About.LIBRARY
    }


def _weighs(finding: Finding) -> bool:
    return finding.weight is not Weight.NOTE
