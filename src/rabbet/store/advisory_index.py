"""Records of vulnerabilities, read once into a database of SQLite by library; losing it costs time only.

The file is written aside and put in its place when it is whole, so a reader sees the old one or the new one.
What the records came from, and when that was looked at, stands in it too.
"""

import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import closing, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.rules.advisory import Advisory
from rabbet.disk.atomic import cannot_write
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import CannotWrite
from rabbet.formats.osv import RecordBroken, read_record

if TYPE_CHECKING:
    from sqlite3 import Connection

__all__ = ["AdvisoryIndex", "IndexFacts"]

_FORM = 1  # 1: first form
_AT_ONCE = 500  # names in a question, rows that are written
_MOST_NAMED = 20  # broken records


class IndexFacts(Struct, frozen=True, kw_only=True):
    """What an index was made from, and when.

    `state` differs when the place's files do, or is what the server calls the content's version. Of a large
    collection, `folders` are those that its files lie in, with the times of their last change. `newest` is
    when a record was last changed, in ISO form. `broken` records can't be used, and `named` are the first of
    these, with the reasons. `checked` is when the place was last looked at, `written` when a file of it was
    last written (seconds since the epoch).
    """

    state: str
    records: int
    newest: str
    broken: int
    named: tuple[str, ...]
    checked: float
    written: float
    folders: dict[str, int] = field(default_factory=dict)


_FACTS = msgspec.msgpack.Decoder(IndexFacts)
_ADVISORY = msgspec.msgpack.Decoder(Advisory)


class AdvisoryIndex:
    """The index in one file; each question opens it."""

    def __init__(self, file: Path) -> None:
        self._file = file

    def facts(self) -> IndexFacts | None:
        """What it was made from; `None` where there is none that can be read."""
        rows = self._asked("SELECT content FROM facts")
        with suppress(msgspec.MsgspecError, IndexError):
            return _FACTS.decode(rows[0][0])
        return None

    def is_whole(self) -> bool:
        """Whether all of the file can be read; one that can't is removed."""
        whole = self.facts() is not None and self._asked("PRAGMA integrity_check") == [("ok",)]
        if not whole:
            with suppress(OSError):
                self._file.unlink()
        return whole

    def about(self, names: Iterable[NormalizedName]) -> dict[NormalizedName, list[Advisory]]:
        """The advisories about each of these libraries that has any."""
        found: dict[NormalizedName, list[Advisory]] = {}
        wanted = sorted(set(names))
        for start in range(0, len(wanted), _AT_ONCE):
            part = wanted[start : start + _AT_ONCE]
            marks = ", ".join("?" * len(part))
            question = f"SELECT name, content FROM advisories WHERE name IN ({marks})"  # noqa: S608
            for name, content in self._asked(question, *part):
                found.setdefault(name, []).append(_ADVISORY.decode(content))
        return found

    def write(
        self,
        records: Iterable[tuple[str, bytes]],
        *,
        state: str,
        written: float,
        folders: Mapping[str, int] | None = None,
    ) -> IndexFacts:
        """Read all records into a new file, and put that in the place of the old one.

        `state`, `written` and `folders` become those of its facts.

        Raises `CannotWrite`, and what `records` raises.
        """
        from sqlite3 import Error, connect

        about = IndexFacts(
            state=state,
            records=0,
            newest="",
            broken=0,
            named=(),
            checked=time.time(),
            written=written,
            folders=dict(folders or {}),
        )
        try:
            with scratch_folder(self._file.parent / "writing") as folder:
                aside = folder / "index"
                with closing(connect(aside, isolation_level=None)) as connection:
                    facts = _fill(connection, records, about)
                with cannot_write(self._file):
                    aside.replace(self._file)
        except Error as error:
            raise CannotWrite(f"{self._file} can't be written", because=[str(error)]) from error
        return facts

    def note_checked(self, facts: IndexFacts) -> IndexFacts:
        """Note that the place was looked at now and is unchanged, if that can be written."""
        from sqlite3 import Error, connect

        now = msgspec.structs.replace(facts, checked=time.time())
        with suppress(Error), closing(connect(self._file, isolation_level=None)) as connection:
            connection.execute("UPDATE facts SET content = ?", (msgspec.msgpack.encode(now),))
        return now

    def _asked(self, question: str, *values: str) -> list[tuple[Any, ...]]:
        """The rows of an answer; none where there is no file, or one that is damaged."""
        if not self._file.is_file():
            return []
        from sqlite3 import Error, connect

        try:
            with closing(connect(f"file:{_quoted(self._file)}?mode=ro", uri=True)) as connection:
                if connection.execute("PRAGMA user_version").fetchone() != (_FORM,):
                    return []
                return connection.execute(question, values).fetchall()
        except Error:
            with suppress(OSError):
                self._file.unlink()
            return []


def _quoted(path: Path) -> str:
    from urllib.parse import quote

    return quote(str(path))


def _fill(connection: "Connection", records: Iterable[tuple[str, bytes]], about: IndexFacts) -> IndexFacts:
    """Fill an empty database; the facts with what was read.

    Raises the errors of SQLite, and what `records` raises.
    """
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("PRAGMA journal_mode = OFF")
    connection.execute("BEGIN")
    connection.execute("CREATE TABLE advisories (name TEXT, content BLOB)")
    connection.execute("CREATE TABLE facts (content BLOB)")
    reading = _Reading(records)
    for rows in reading.rows():
        connection.executemany("INSERT INTO advisories VALUES (?, ?)", rows)
    connection.execute("CREATE INDEX by_name ON advisories (name)")
    facts = msgspec.structs.replace(
        about,
        records=reading.count,
        newest=reading.newest,
        broken=reading.broken,
        named=tuple(reading.named),
    )
    connection.execute("INSERT INTO facts VALUES (?)", (msgspec.msgpack.encode(facts),))
    connection.execute(f"PRAGMA user_version = {_FORM}")
    connection.execute("COMMIT")
    return facts


class _Reading:
    """Reads records one after the other, and counts."""

    def __init__(self, records: Iterable[tuple[str, bytes]]) -> None:
        self._records = records
        self.count = self.broken = 0
        self.newest = ""
        self.named: list[str] = []

    def rows(self) -> Iterator[Sequence[tuple[str, bytes]]]:
        """Rows of the table, many at a time."""
        encode = msgspec.msgpack.Encoder().encode
        waiting: list[tuple[str, bytes]] = []
        for name, content in self._records:
            try:
                for library, advisory in read_record(content):
                    waiting.append((library, encode(advisory)))
                    self.newest = max(self.newest, advisory.modified)
            except RecordBroken as error:
                self.broken += 1
                if len(self.named) < _MOST_NAMED:
                    self.named.append(f"{name[-200:]}: {error}")
                continue
            self.count += 1
            if len(waiting) >= _AT_ONCE:
                yield waiting
                waiting = []
        yield waiting
