"""Records of vulnerabilities in the open schema OSV (JSON) → what they say of libraries.

Only what is needed is read, and only within bounds: a record that is beyond them, or not as the schema has
it, costs itself. Records that were `withdrawn` say nothing, nor do ranges of commits.
"""

import re
from collections.abc import Iterator, Sequence

import msgspec
from msgspec import Struct, field
from packaging.utils import NormalizedName

from rabbet.core.limits import LONGEST_LINE, LONGEST_TEXT, UNREADABLE
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.rules.advisory import Advisory, AffectedRange, Bound, check
from rabbet.core.shown_text import visible

__all__ = ["MOST_RECORD", "RecordBroken", "read_record"]

MOST_RECORD = 1_000_000  # bytes: the largest real ones list thousands of versions and have some 300 kB
_MOST_AFFECTED = 5000  # packages, versions and bounds of a record
_MOST_SHOWN = 300  # characters of a summary
_MOST_ALIASES = 100
_ECOSYSTEM = "PyPI"  # the schema's name for the world of Python's libraries
_ID = re.compile(r"[A-Za-z0-9][A-Za-z0-9._:-]{0,99}\Z")
_RANGES = {"ECOSYSTEM": False, "SEMVER": True}


class RecordBroken(ValueError):
    """A record that can't be used; its text says why."""


class _Event(Struct, frozen=True):
    introduced: str | None = None
    fixed: str | None = None
    last_affected: str | None = None
    limit: str | None = None


class _Range(Struct, frozen=True):
    type: str = ""
    events: list[_Event] = field(default_factory=list)


class _Package(Struct, frozen=True):
    ecosystem: str = ""
    name: str = ""


class _Severity(Struct, frozen=True):
    type: str = ""
    score: str = ""


class _Affected(Struct, frozen=True):
    package: _Package = field(default_factory=_Package)
    ranges: list[_Range] | None = None
    versions: list[str] | None = None
    severity: list[_Severity] | None = None


class _Reference(Struct, frozen=True):
    type: str = ""
    url: str = ""


class _Record(Struct, frozen=True):
    id: str
    modified: str = ""
    published: str = ""
    withdrawn: str | None = None
    aliases: list[str] | None = None
    summary: str = ""
    severity: list[_Severity] | None = None
    affected: list[_Affected] | None = None
    references: list[_Reference] | None = None


_RECORD = msgspec.json.Decoder(_Record)


def read_record(content: bytes) -> Iterator[tuple[NormalizedName, Advisory]]:
    """What one record says, for each library that it is about. Raises `RecordBroken`."""
    if len(content) > MOST_RECORD:
        raise RecordBroken(f"it has {len(content)} bytes, more than any record should")
    try:
        record = _RECORD.decode(content)
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise RecordBroken(str(error)[:LONGEST_LINE]) from error
    if not _ID.match(record.id):
        raise RecordBroken(f"'{visible(record.id[:60])}' is not an id")
    if record.withdrawn:
        return
    by_name: dict[NormalizedName, list[_Affected]] = {}
    for affected in record.affected or ():
        package = affected.package
        if package.ecosystem.partition(":")[0] == _ECOSYSTEM and is_name(package.name):
            by_name.setdefault(library_name(package.name), []).append(affected)
    for name, entries in by_name.items():
        found = _advisory(record, entries)
        if found.ranges or found.versions:
            yield name, found


def _advisory(record: _Record, entries: Sequence[_Affected]) -> Advisory:
    ranges = [_read_range(told) for entry in entries for told in entry.ranges or () if told.type in _RANGES]
    versions = [version for entry in entries for version in entry.versions or ()]
    amount = len(entries) + len(versions) + sum(len(told.bounds) for told in ranges)
    if amount > _MOST_AFFECTED:
        raise RecordBroken(f"it lists {amount} versions and bounds, more than any record should")
    told = [severity for entry in entries for severity in entry.severity or ()] or record.severity or []
    aliases = [name for name in record.aliases or () if _ID.match(name)][:_MOST_ALIASES]
    places = [told.url for told in record.references or () if told.type in ("ADVISORY", "WEB")]
    found = Advisory(
        id=record.id,
        aliases=tuple(aliases),
        summary=visible(record.summary[:_MOST_SHOWN]),
        published=_moment(record.published),
        modified=_moment(record.modified),
        vectors=tuple(severity.score for severity in told if len(severity.score) <= LONGEST_LINE)[:10],
        ranges=tuple(ranges),
        versions=tuple(version for version in versions if len(version) <= LONGEST_LINE),
        references=tuple(place for place in places if place.startswith("http") and len(place) < LONGEST_LINE)[
            :2
        ],
    )
    try:
        check(found)
    except ValueError as error:
        raise RecordBroken(f"{record.id}: {error}") from error
    return found


def _read_range(told: _Range) -> AffectedRange:
    bounds = []
    for event in told.events:
        for kind in ("introduced", "fixed", "last_affected", "limit"):
            version = getattr(event, kind)
            if version is not None:
                if len(version) > LONGEST_TEXT:
                    raise RecordBroken(f"a version has {len(version)} characters")
                if not (kind == "limit" and version == "*"):  # which limits nothing
                    bounds.append(Bound(kind, version))
    return AffectedRange(_RANGES[told.type], tuple(bounds))


def _moment(text: str) -> str:
    """A time in ISO form; empty for anything else."""
    return text if len(text) < 40 and text[:4].isdecimal() and text.isascii() and text.isprintable() else ""
