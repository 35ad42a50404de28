"""The census over time: a row is kept each day, and what is new since a time is told."""

import json
import shlex
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from datetime import UTC, date, datetime
from functools import cache, partial
from hashlib import sha256
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.census.history import (
    Arrived,
    Day,
    Known,
    News,
    Reached,
    Week,
    day_of,
    known_of,
    newest_then,
    news_of,
    reached,
    weeks_of,
)
from rabbet.core.census.matrix import MachineState, matrix_of
from rabbet.core.census.tags import Wanted, fits
from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.atomic import write_bytes
from rabbet.disk.process_lock import claimed
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed, RabbetError, WrongUsage
from rabbet.store.layout import state_folder
from rabbet.tasks.drifting.census import Census, nothing_here, refs_of
from rabbet.team.database import opened_database
from rabbet.team.extra import needing_extra
from rabbet.workspace.session import Session
from rabbet.workspace.states.census import CensusComparison
from rabbet.workspace.states.lock_history import lock_history
from rabbet.workspace.states.machines import (
    Unread,
    census_group,
    kept_contents,
    kept_machines,
)

__all__ = [
    "SILENT_AFTER",
    "Told",
    "Trend",
    "draw_trend",
    "last_news",
    "news",
    "note_day",
    "note_news",
    "tell",
    "trend",
]

SILENT_AFTER = 30 * 86400  # seconds after which a machine that sends nothing is silent
_DAYS = "days"  # the note with a row a day
_MOST_LOCKS = 12  # the newest, of which it is told when they reached the machines
_DAY = msgspec.json.Decoder(Day)
_KNOWN = msgspec.json.Decoder(Known)


class Trend(Struct, frozen=True, kw_only=True):
    """The weeks of which rows are kept, and when the newest locks reached the machines."""

    weeks: tuple[Week, ...]
    locks: tuple[Reached, ...]


def note_day(session: Session, census: Census, url: str | None, *, judged: bool) -> str:
    """Keep today's row of a census; why that was not possible, empty if it was."""
    today = datetime.fromtimestamp(census.made, UTC).date()
    commit = census.held_against.commit if census.held_against else ""
    quiet = sum(0 < state.recorded < census.made - SILENT_AFTER for state in census.states)
    row = day_of(census.matrix, today, commit, silent=quiet + len(census.silent), judged=judged)
    text = msgspec.json.encode(row).decode()
    group = census_group(session.project)
    try:
        if url:
            with needing_extra("a database"), opened_database(url) as database:
                database.note_day(group, row.day, text)
        elif session.machine.offline:
            return "no network is asked now"
        else:
            refs, _ = refs_of(session, None)
            with claimed(session.machine.store_folder, f"census {session.project.folder}"):
                refs.note(_DAYS, partial(_with_day, day=row.day, text=text))
    except RabbetError as error:
        return "; ".join([str(error), *error.because])
    return ""


def _with_day(known: str, day: str, text: str) -> str:
    """The rows with that of a day, a line each, sorted by their days."""
    rows = {row.day: line for line, row in _rows(known.splitlines())}
    return "".join(f"{line}\n" for _, line in sorted({**rows, day: text}.items()))


def _rows(lines: Iterable[str]) -> Iterator[tuple[str, Day]]:
    """The lines that are rows; others are passed over."""
    for line in lines:
        with suppress(msgspec.MsgspecError, ValueError):
            row = _DAY.decode(line)
            date.fromisoformat(row.day)
            yield line, row


def trend(session: Session, since: date, url: str | None) -> Trend:
    """How the team stood since a date, by what is kept. Raises `SourceFailed`, `NoLock`."""
    session.observer.stage("reading what is kept of each day")
    if url:
        with needing_extra("a database"), opened_database(url) as database:
            lines = database.days(census_group(session.project))
    else:
        fetching = not session.machine.offline
        lines = refs_of(session, None)[0].notes(_DAYS, fetching=fetching).splitlines()
    locks = [
        (revision.commit, revision.when, stamp) for revision, stamp in lock_history(session, _MOST_LOCKS)
    ]
    return Trend(
        weeks=tuple(weeks_of((row for _, row in _rows(lines)), since)),
        locks=tuple(reached(locks, _records(session, url))),
    )


def _records(session: Session, url: str | None) -> Iterator[tuple[str, int, str]]:
    """Each kept record: its machine, when it was made, and the stamp of the lock that was installed."""
    for machine, sent in kept_contents(session, url, {}):
        if not isinstance(machine, Unread):
            yield from ((one.label, one.recorded, machine.inventory.lock_stamp) for one in sent)


class Told(Struct, frozen=True, kw_only=True):
    """What is new by a census of the newest records, and what is known to those who are told this."""

    news: News
    census: Census
    known: Known


def news(session: Session, known: Known, url: str | None, wanted: Wanted) -> Told:
    """What is new on machines with these tags to somebody who knows something, by the lock of today.

    Raises `NoLock`, `NotUnderstood`, `NoRuntime`, `SourceFailed`, `WrongUsage` where there are no records.
    """
    session.observer.stage("reading inventories")
    at = int(time.time())
    against = CensusComparison(session)
    found = _by_database(session, url, wanted, against) if url else _by_git(session, wanted, against)
    arrived, unread, state_of = found
    if not (arrived or unread):
        raise nothing_here(wanted)
    newest = {record.label: record for record in sorted(arrived, key=lambda record: record.number)}
    then = {label: state_of(number) for label, number in newest_then(arrived, known).items()}
    now = {label: state_of(record.number) for label, record in newest.items()}
    return Told(
        news=news_of(then, now, since=known.at, at=at, silent_after=SILENT_AFTER),
        census=Census(
            matrix=matrix_of(now.values()),
            states=tuple(now.values()),
            unread=tuple(unread),
            ahead=(),
            held_against=against.revision,
            made=at,
        ),
        known=known_of(arrived, at),
    )


_Arrivals = tuple[list[Arrived], list[Unread], Callable[[int], MachineState]]


def _by_git(session: Session, wanted: Wanted, against: CensusComparison) -> _Arrivals:
    """The records that were collected, what can't be read, and the state of one by its number."""
    kept, unread = kept_machines(session, None, every=True)  # in the order in which they arrived
    machines = [machine for machine in kept if fits(machine.tags, wanted)]

    @cache
    def state_of(number: int) -> MachineState:
        return next(iter(against.states([machines[number]])))

    arrived = [Arrived(machine.label, machine.recorded, number) for number, machine in enumerate(machines)]
    return arrived, unread, state_of


def _by_database(session: Session, url: str, wanted: Wanted, against: CensusComparison) -> _Arrivals:
    """The same; a content that many machines share is compared once."""
    arrived: dict[int, Arrived] = {}
    states: dict[int, MachineState] = {}
    unread: list[Unread] = []
    for machine, sent in kept_contents(session, url, wanted):
        if isinstance(machine, Unread):
            unread.append(machine)
            continue
        state = next(iter(against.states([machine])))
        arrived |= {one.number: Arrived(*one) for one in sent}
        states |= dict.fromkeys((one.number for one in sent), state)

    def state_of(number: int) -> MachineState:
        return replace(states[number], label=arrived[number].label, recorded=arrived[number].recorded)

    return list(arrived.values()), unread, state_of


def tell(command: str, document: Mapping[str, object], session: Session) -> None:
    """Give a document to a command of the user's, as JSON on its standard input.

    Raises `WrongUsage` for what is no command, `EnvironmentFailed` where it fails.
    """
    try:
        words = shlex.split(command)
        done = subprocess.run(
            words,
            input=json.dumps(document).encode(),
            cwd=session.machine.folder,
            env=dict(session.machine.environ),
            stdout=sys.stderr.fileno(),  # the standard output is the news alone
            check=False,
        )
    except (ValueError, IndexError, OSError) as error:
        raise WrongUsage(f"'{command}' can't be run", because=[str(error)]) from error
    if done.returncode:
        raise EnvironmentFailed(f"'{command}' ended with {done.returncode}, so the news may not be told")


def draw_trend(found: Trend, session: Session, picture: Path) -> None:
    """Draw the shares by week. Raises `EnvironmentFailed` without Matplotlib, `CannotWrite`."""
    from rabbet.team.trend_figure import drawn_trend

    rows = [(week.begins, week.share, week.last.machines) for week in found.weeks]
    title = f"{session.declaration().name}: machines as locked"
    with needing_extra("a picture"):
        write_bytes(picture, drawn_trend(title, rows), below=session.project.folder)


def last_news(session: Session, scope: str) -> Known | None:
    """What this user knows since they last asked what is new; `None`: they never did.

    The `scope` names the machines they asked for, in any form.
    """
    try:
        return _KNOWN.decode(read_regular(_last_file(session, scope), most=MOST_TEXT_FILE))
    except (OSError, msgspec.MsgspecError, ValueError):
        return None


def note_news(session: Session, scope: str, known: Known) -> None:
    """Note what this user knows now. Raises `CannotWrite`."""
    file = _last_file(session, scope)
    file.parent.mkdir(parents=True, exist_ok=True)
    write_bytes(file, msgspec.json.encode(known))


def _last_file(session: Session, scope: str) -> Path:
    """The file for a project, by its folder, and some of its machines."""
    folder = state_folder(session.machine.environ, session.machine.folder)
    whose = "\0".join((str(session.project.folder.resolve()), census_group(session.project), scope))
    return folder / "census-news" / sha256(whose.encode(errors="surrogateescape")).hexdigest()
