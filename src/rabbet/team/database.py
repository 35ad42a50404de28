"""Inventories in a database, by SQLAlchemy: SQLite in a file, PostgreSQL for fleets.

    rabbet_schema     one row: the number of the schema
    rabbet_machine    a machine by its project (and variant, as in `hives+gui`) and label
    rabbet_state      what is installed, each content once, packed; machines of a team share most of them
    rabbet_arrival    which state a machine was in, and when by its own clock, numbered as they arrived
    rabbet_day        how many machines were in which state on a day, for good
    rabbet_event      machines that were forgotten or renamed, and when

An arrival is one row, so what thousands of machines send is small. What a machine sent last is its newest,
whatever its clock says. All writing is in transactions; of two senders that both add the same row, one begins
again.
"""

import hashlib
import time
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from operator import itemgetter
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from msgspec import Struct

from rabbet.core.shown_text import shown_location
from rabbet.errors import SourceFailed
from rabbet.net.git.shared_refs import Renamed
from rabbet.team.labels import checked_label

if TYPE_CHECKING:
    from sqlalchemy import Connection, Engine, FromClause, MetaData, Table
    from sqlalchemy.engine.interfaces import DBAPIConnection
    from sqlalchemy.exc import SQLAlchemyError

__all__ = [
    "SCHEMA",
    "Database",
    "DatabaseRecord",
    "Event",
    "Sent",
    "StoredState",
    "opened_database",
]

_Value = TypeVar("_Value")

# 1, 2: `rabbet_record`, by senders' clocks. 3: `rabbet_arrival` instead. 4: `rabbet_event`, `rabbet_day`
SCHEMA = 4
_WITH_ARRIVALS = 3
_TRIES, _PAUSE = 20, 0.1  # of adding what others add as well; seconds between
_URLS = "URLs are such as sqlite:///census.db and postgresql+psycopg://HOST/NAME"
_NOT_ALLOWED = "42501"  # PostgreSQL's insufficient_privilege
_OWN_DRIVER = "psycopg"
_LARGEST = 50_000_000  # bytes of an inventory, packed or not
_LATEST = 253_402_300_799  # seconds since the epoch: the end of year 9999
_NO_STATE, _NO_LABEL = -1, "without-label"  # stand for what is none


class DatabaseRecord(NamedTuple):
    """An inventory as it is sent: the machine, the time in seconds, and what is installed there."""

    label: str
    recorded: int
    content: str


class Sent(NamedTuple):
    """Which machine sent a state, when by its own clock (in seconds), and as which of all that arrived."""

    label: str
    recorded: int
    number: int


class Event(NamedTuple):
    """Something that was done to a machine, and when (seconds since the epoch)."""

    at: int
    what: str


class StoredState(NamedTuple):
    """A content, and the machines that sent it.

    The content is empty where what the database has is damaged, or larger than any inventory.
    """

    content: str
    sent: tuple[Sent, ...]


class _Tables(Struct, frozen=True):
    schema: "Table"
    machine: "Table"
    state: "Table"
    arrival: "Table"
    event: "Table"
    day: "Table"


def _tables(metadata: "MetaData") -> _Tables:
    from sqlalchemy import (
        BigInteger,
        Column,
        ForeignKey,
        Integer,
        LargeBinary,
        String,
        Table,
        UniqueConstraint,
    )

    return _Tables(
        schema=Table("rabbet_schema", metadata, Column("number", Integer, primary_key=True)),
        machine=Table(
            "rabbet_machine",
            metadata,
            Column("id", Integer, primary_key=True),
            Column("project", String(200), nullable=False),
            Column("label", String(64), nullable=False),
            UniqueConstraint("project", "label"),
        ),
        state=Table(
            "rabbet_state",
            metadata,
            Column("id", Integer, primary_key=True),
            Column("digest", String(64), nullable=False, unique=True),
            Column("content", LargeBinary, nullable=False),
        ),
        day=Table(
            "rabbet_day",
            metadata,
            Column("id", Integer, primary_key=True),
            Column("project", String(200), nullable=False),
            Column("day", String(10), nullable=False),
            Column("content", String(4000), nullable=False),
            UniqueConstraint("project", "day"),
        ),
        event=Table(
            "rabbet_event",
            metadata,
            Column("id", Integer, primary_key=True),
            Column("project", String(200), nullable=False, index=True),
            Column("at", BigInteger, nullable=False),
            Column("what", String(200), nullable=False),
        ),
        arrival=Table(
            "rabbet_arrival",
            metadata,
            Column("number", BigInteger().with_variant(Integer, "sqlite"), primary_key=True),
            Column("machine_id", ForeignKey("rabbet_machine.id"), nullable=False, index=True),
            Column("recorded", BigInteger, nullable=False),
            Column("state_id", ForeignKey("rabbet_state.id"), nullable=False, index=True),
        ),
    )


_INTO_ARRIVALS = """\
INSERT INTO rabbet_arrival (machine_id, recorded, state_id)
    SELECT machine_id, recorded, state_id FROM rabbet_record ORDER BY recorded, machine_id, state_id
"""


@contextmanager
def opened_database(url: str) -> Iterator["Database"]:
    """A database by its URL, as SQLAlchemy reads it; its tables are made, or brought up to date.

    Raises `SourceFailed`, `ModuleNotFoundError` without SQLAlchemy.
    """
    from sqlalchemy import event
    from sqlalchemy.exc import SQLAlchemyError

    shown = shown_location(url)
    if shown.endswith("…"):
        raise SourceFailed(
            f"the database's address {shown} can't be read",
            because=[
                "in a password '/' is written as %2F, '@' as %40, '#' as %23, '?' as %3F, a space as %20"
            ],
            note=_URLS,
        )
    try:
        engine = _engine(url, shown)
        if engine.dialect.name == "sqlite":
            event.listen(engine, "connect", _with_references)
        try:
            yield Database(engine, shown)
        finally:
            engine.dispose()
    except SQLAlchemyError as error:
        raise SourceFailed(
            f"the database {shown} can't be used", because=[_told_by(error)], note=_URLS
        ) from error


def _engine(url: str, shown: str) -> "Engine":
    """The database's engine. Raises as `opened_database` does, because a driver may be missing."""
    from sqlalchemy import create_engine, make_url

    parsed = make_url(url)
    place = parsed.database or ":memory:"
    if parsed.get_backend_name() == "sqlite" and place.startswith((":memory:", "file:")):
        raise SourceFailed(f"the database {shown} names no file, so nothing is kept in it", note=_URLS)
    try:
        return create_engine(parsed)
    except ModuleNotFoundError as error:
        if error.name == _OWN_DRIVER:
            raise
        raise SourceFailed(
            f"the database {shown} can't be used",
            because=[f"its driver {error.name} is not installed"],
            note=_URLS,
        ) from error


def _told_by(error: "SQLAlchemyError") -> str:
    """A database's message about an error, in one line."""
    told = str(getattr(error, "orig", None) or error).strip().splitlines()
    return told[0] if told else type(error).__name__


def _with_references(connection: "DBAPIConnection", _: object) -> None:
    """Let SQLite refuse a record of a state that somebody has just removed, as other databases do."""
    connection.cursor().execute("PRAGMA foreign_keys = ON")


class Database:
    """The census of many projects. Its methods raise what SQLAlchemy raises."""

    def __init__(self, engine: "Engine", shown: str) -> None:
        from sqlalchemy import MetaData

        self._engine = engine
        self._metadata = MetaData()
        self._tables = _tables(self._metadata)
        self._prepare(shown)

    def send(self, project: str, records: Iterable[DatabaseRecord], keep: int) -> None:
        """Add records in one transaction; of each of these machines the newest `keep` stay."""
        from sqlalchemy.exc import IntegrityError, OperationalError

        sent = list(records)
        for number in range(_TRIES):
            try:
                with self._engine.begin() as connection:
                    self._add(connection, project, sent, keep)
            except (IntegrityError, OperationalError):  # somebody else was faster, or is still at it
                if number == _TRIES - 1:
                    raise
            else:
                return

    def forget(self, project: str, label: str) -> bool:
        """Remove a machine and all that it has sent, in one transaction; whether there was one."""
        from sqlalchemy import select

        machine, arrival = self._tables.machine, self._tables.arrival
        with self._engine.begin() as connection:
            chosen = select(machine.c.id).where(machine.c.project == project, machine.c.label == label)
            found = connection.execute(chosen).scalar()
            if found is None:
                return False
            own = arrival.c.machine_id == found
            states = set(connection.execute(select(arrival.c.state_id).where(own)).scalars())
            connection.execute(arrival.delete().where(own))
            self._drop_unused(connection, states)
            connection.execute(machine.delete().where(machine.c.id == found))
            self._note(connection, project, f"forget {label}")
        return True

    def rename(self, project: str, label: str, new: str) -> Renamed:
        """Give a machine another label, which no other one has."""
        from sqlalchemy.exc import IntegrityError

        machine = self._tables.machine
        mine = machine.update().where(machine.c.project == project, machine.c.label == label)
        try:
            with self._engine.begin() as connection:
                found = connection.execute(mine.values(label=new)).rowcount > 0
                if found:
                    self._note(connection, project, f"rename {label} {new}")
        except IntegrityError:
            return "taken"
        return "done" if found else "absent"

    def note_day(self, project: str, day: str, content: str) -> None:
        """Keep the row of a day, in place of one that is there already."""
        from sqlalchemy.exc import IntegrityError

        table = self._tables.day
        mine = table.update().where(table.c.project == project, table.c.day == day)
        for number in range(2):
            try:
                with self._engine.begin() as connection:
                    if not connection.execute(mine.values(content=content)).rowcount:
                        connection.execute(table.insert().values(project=project, day=day, content=content))
            except IntegrityError:  # somebody else has added it just now
                if number:
                    raise
            else:
                return

    def state(self, project: str) -> str:
        """A text that differs where machines of a project have sent something, or were changed."""
        from sqlalchemy import func, select

        machine, arrival, event = self._tables.machine, self._tables.arrival, self._tables.event
        arrived = (
            select(func.max(arrival.c.number), func.count())
            .select_from(arrival.join(machine, arrival.c.machine_id == machine.c.id))
            .where(machine.c.project == project)
        )
        changed = select(func.count()).select_from(event).where(event.c.project == project)
        with self._engine.connect() as connection:
            newest, count = connection.execute(arrived).one()
            return f"{newest} {count} {connection.execute(changed).scalar()}"

    def days(self, project: str) -> list[str]:
        """The rows of all days that are kept, oldest first."""
        from sqlalchemy import select

        table = self._tables.day
        chosen = select(table.c.content).where(table.c.project == project).order_by(table.c.day)
        with self._engine.connect() as connection:
            return [str(content) for (content,) in connection.execute(chosen)]

    def events(self, project: str) -> list[Event]:
        """What was done to machines of a project, oldest first."""
        from sqlalchemy import select

        event = self._tables.event
        chosen = select(event.c.at, event.c.what).where(event.c.project == project).order_by(event.c.id)
        with self._engine.connect() as connection:
            return [Event(at, what) for at, what in connection.execute(chosen)]

    def _note(self, connection: "Connection", project: str, what: str) -> None:
        connection.execute(
            self._tables.event.insert().values(project=project, at=int(time.time()), what=what)
        )

    def newest(self, project: str) -> Iterator[StoredState]:
        """The states that machines are in by what they sent last, each with all of its machines."""
        from sqlalchemy import func, select

        arrival = self._tables.arrival
        last = select(func.max(arrival.c.number).label("number")).group_by(arrival.c.machine_id).subquery()
        yield from self._states(project, arrival.join(last, arrival.c.number == last.c.number))

    def every(self, project: str) -> Iterator[StoredState]:
        """All states that are kept, with all of their arrivals."""
        yield from self._states(project, self._tables.arrival)

    def _states(self, project: str, arrivals: "FromClause") -> Iterator[StoredState]:
        from sqlalchemy import func, select, type_coerce
        from sqlalchemy.types import NullType

        machine, state, arrival = self._tables.machine, self._tables.state, self._tables.arrival
        joined = arrivals.join(machine, arrival.c.machine_id == machine.c.id)
        chosen = (
            select(arrival.c.state_id, machine.c.label, arrival.c.recorded, arrival.c.number)
            .select_from(joined)
            .where(machine.c.project == project)
        )
        with self._engine.connect() as connection:
            every: dict[int, list[Sent]] = {}
            for state_id, *row in connection.execute(chosen):
                every.setdefault(state_id if isinstance(state_id, int) else _NO_STATE, []).append(
                    _checked(*row)
                )
            as_stored = type_coerce(state.c.content, NullType())  # a value of another type ends no query
            for part in _parts(sorted(every)):
                contents = select(state.c.id, as_stored).where(
                    state.c.id.in_(part), func.length(state.c.content) <= _LARGEST
                )
                missing = set(part)
                for state_id, packed in connection.execute(contents):
                    missing.discard(state_id)
                    yield StoredState(_unpacked(packed), tuple(sorted(every[state_id])))
                yield from (StoredState("", tuple(sorted(every[state_id]))) for state_id in missing)

    def _prepare(self, shown: str) -> None:
        """Make the tables where there are none. Raises `SourceFailed` for those of a newer Rabbet.

        Others may be making them at the same time, and a process that was killed may have begun.
        """
        from sqlalchemy.exc import IntegrityError, OperationalError, ProgrammingError

        number, reason = self._schema(), ""
        for _ in range(_TRIES):
            if number is not None:
                break
            try:
                with self._engine.begin() as connection:
                    self._metadata.create_all(connection)
                    connection.execute(self._tables.schema.insert().values(number=SCHEMA))
            except (IntegrityError, OperationalError, ProgrammingError) as error:
                reason = _told_by(error)
                time.sleep(_PAUSE)
            number = self._schema()
        if number is not None and number in range(1, SCHEMA):
            number = self._migrated(number)
        if number is None:
            raise SourceFailed(f"the database {shown} can't be set up", because=[reason])
        if number != SCHEMA:
            raise SourceFailed(
                f"the database {shown} was made by a newer Rabbet",
                because=[f"its schema is number {number}, and this Rabbet knows {SCHEMA}"],
            )

    def _migrated(self, number: int) -> int:
        """Bring an older schema up to date, unless somebody else just does; the number of the schema then."""
        from sqlalchemy import text
        from sqlalchemy.exc import OperationalError, ProgrammingError

        schema = self._tables.schema
        try:
            with self._engine.begin() as connection:
                mine = schema.update().where(schema.c.number == number).values(number=SCHEMA)
                if connection.execute(mine).rowcount:
                    self._metadata.create_all(connection)
                    if number < _WITH_ARRIVALS:
                        connection.execute(text(_INTO_ARRIVALS))
                        connection.execute(text("DROP TABLE rabbet_record"))
        except (OperationalError, ProgrammingError):
            if self._schema() == number:
                raise
        return self._schema() or 0

    def _schema(self) -> int | None:
        """The number of the schema; `None` where there is none yet."""
        from sqlalchemy import inspect, select

        schema = self._tables.schema
        if not inspect(self._engine).has_table(schema.name):
            return None
        with self._engine.connect() as connection:
            return connection.execute(select(schema.c.number)).scalar()

    def _add(
        self, connection: "Connection", project: str, records: Sequence[DatabaseRecord], keep: int
    ) -> None:
        tables = self._tables
        machines = self._ids(
            connection,
            tables.machine,
            "label",
            {record.label: {"project": project} for record in records},
            project,
        )
        contents = {_digest(record.content): record.content for record in records}
        states = self._ids(
            connection,
            tables.state,
            "digest",
            {digest: {"content": zlib.compress(text.encode())} for digest, text in contents.items()},
        )
        new = [
            {
                "machine_id": machines[record.label],
                "recorded": record.recorded,
                "state_id": states[_digest(record.content)],
            }
            for record in records
        ]
        if new:
            connection.execute(tables.arrival.insert(), new)
            self._forget(connection, set(machines.values()), keep)

    def _ids(
        self,
        connection: "Connection",
        table: "Table",
        key: str,
        rows: dict[str, dict[str, object]],
        project: str | None = None,
    ) -> dict[str, int]:
        """The ids of rows by their key; those that are not there are added."""
        from sqlalchemy import select

        def known() -> dict[str, int]:
            found: dict[str, int] = {}
            for part in _parts(sorted(rows)):
                chosen = select(table.c[key], table.c.id).where(table.c[key].in_(part))
                if project is not None:
                    chosen = chosen.where(table.c.project == project)
                found.update((name, number) for name, number in connection.execute(chosen))
            return found

        there = known()
        new = [{key: name, **more} for name, more in rows.items() if name not in there]
        if new:
            connection.execute(table.insert(), new)
            there = known()
        return there

    def _forget(self, connection: "Connection", machines: set[int], keep: int) -> None:
        """Delete all but the newest `keep` arrivals of each machine, and the states that no other one has."""
        from sqlalchemy import select

        arrival = self._tables.arrival
        left: set[int] = set()
        for part in _parts(sorted(machines)):
            chosen = select(arrival.c.machine_id, arrival.c.number, arrival.c.state_id)
            kept: dict[int, list[tuple[int, int]]] = {}
            for machine, number, state_id in connection.execute(chosen.where(arrival.c.machine_id.in_(part))):
                kept.setdefault(machine, []).append((number, state_id))
            old = [record for some in kept.values() for record in sorted(some, key=itemgetter(0))[:-keep]]
            left |= {state_id for _, state_id in old if isinstance(state_id, int)}
            for numbers in _parts([number for number, _ in old]):
                connection.execute(arrival.delete().where(arrival.c.number.in_(numbers)))
        self._drop_unused(connection, left)

    def _drop_unused(self, connection: "Connection", left: set[int]) -> None:
        """Delete those of these states that no machine has any more, if the user of the database may."""
        from sqlalchemy import exists
        from sqlalchemy.exc import ProgrammingError

        arrival, state = self._tables.arrival, self._tables.state
        for states in _parts(sorted(left)):
            unused = state.c.id.in_(states) & ~exists().where(arrival.c.state_id == state.c.id)
            try:
                with connection.begin_nested():
                    connection.execute(state.delete().where(unused))
            except ProgrammingError as error:
                if getattr(error.orig, "sqlstate", None) != _NOT_ALLOWED:
                    raise
                return  # a sender that sees no other machine can't know what these have


def _parts(values: Sequence[_Value], size: int = 500) -> Iterator[Sequence[_Value]]:
    """Values in parts that fit into one question."""
    return (values[begun : begun + size] for begun in range(0, len(values), size))


def _digest(content: str) -> str:
    return hashlib.sha256(content.encode()).hexdigest()


def _checked(label: object, recorded: object, number: int) -> Sent:
    """An arrival, whose columns may be of any type in SQLite; a time that nothing stands for is 0."""
    return Sent(
        checked_label(label if isinstance(label, str) else "") or _NO_LABEL,
        recorded if isinstance(recorded, int) and 0 <= recorded <= _LATEST else 0,
        number,
    )


def _unpacked(packed: object) -> str:
    """A content; empty for what is none, is damaged, or unpacks to more than any inventory."""
    unpacking = zlib.decompressobj()
    if not isinstance(packed, bytes):
        return ""
    try:
        content = unpacking.decompress(packed, _LARGEST)
    except zlib.error:
        return ""
    return content.decode("utf-8", "replace") if unpacking.eof else ""
