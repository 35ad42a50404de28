"""A table of rules → a `RuleSet`: in a declaration, in settings, or as a file that a team shares."""

import re
from collections.abc import Callable
from datetime import date, datetime

from rabbet.core.limits import LONGEST_LINE, MOST_SOURCES
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.rules.licences import canonical
from rabbet.core.rules.model import Accepted, AgeRule, LicenceRule, OriginRule, RuleSet, Stop
from rabbet.formats.text.toml import Table, parse_toml

__all__ = ["read_rules", "read_shared_rules", "seconds_in"]

_KEYS = ("advisories", "stale-after", "severity", "accept", "licences", "age", "from", "stops")
_DURATION = re.compile(r"([0-9]{1,6})([smhd])\Z")
_SECONDS = {"s": 1, "m": 60, "h": 3600, "d": 86400}
_PATTERN = re.compile(r"[A-Za-z0-9*?._-]{1,200}\Z")
_MOST_ACCEPTED = 1000
_STOPS: tuple[Stop, ...] = ("recreate", "run")
_HIGHEST = 10.0  # of scores


def read_shared_rules(text: str, where: str) -> RuleSet:
    """Read a file with rules; errors and rules call it `where`. Raises `NotUnderstood`."""
    table = parse_toml(text, where)
    found = _rules(table, where)
    table.problems.raise_if_any()
    return found


def read_rules(holder: Table, where: str, wrong: Callable[[str], str | None]) -> RuleSet | None:
    """The rules of a declaration or of settings, which may be just the place of a shared file.

    `wrong` tells what is wrong with a place. What can't be understood becomes a problem of the file.
    """
    if "rules" not in holder:
        return None
    if not holder.holds_table("rules"):
        return RuleSet(where=where, shared=_place(holder, "rules", holder.text("rules") or "", wrong))
    table = holder.table("rules")
    found = _rules(table, where, "shared")
    for number, place in enumerate(found.advisories):
        _place(table, f"advisories[{number}]", place, wrong)
    return (
        RuleSet(
            **{name: getattr(found, name) for name in found.__struct_fields__ if name != "shared"},
            shared=_place(table, "shared", table.text("shared") or "", wrong),
        )
        if "shared" in table
        else found
    )


def seconds_in(text: str) -> int | None:
    """The seconds of a time such as `14d` or `12h`; `None` for what is none."""
    found = _DURATION.match(text)
    return int(found[1]) * _SECONDS[found[2]] if found else None


def _place(table: Table, key: str, place: str, wrong: Callable[[str], str | None]) -> str:
    fault = wrong(place) if place else "is empty"
    if fault:
        table.problems.add(table.place(key), f"'{place[:60]}' {fault}")
    return place


def _rules(table: Table, where: str, *more: str) -> RuleSet:
    table.allow_only(*_KEYS, *more)
    stops = table.texts("stops")
    for stop in stops:
        if stop not in _STOPS:
            table.problems.add(table.place("stops"), f"'{stop[:60]}' is not one of: {', '.join(_STOPS)}")
    return RuleSet(
        where=where,
        advisories=_few(table, "advisories"),
        stale_after=_seconds(table, "stale-after"),
        severity=_severity(table),
        accepted=tuple(_accepted(entry) for entry in _few_tables(table, "accept")),
        licences=_licences(table),
        age=_age(table),
        origin=_origin(table.table("from")) if "from" in table else None,
        stops=frozenset(stop for stop in _STOPS if stop in stops),
    )


def _few(table: Table, key: str) -> tuple[str, ...]:
    found = tuple(table.texts(key))
    if len(found) > MOST_SOURCES:
        table.problems.add(table.place(key), f"there are {len(found)}, and at most {MOST_SOURCES} are read")
    return found[:MOST_SOURCES]


def _few_tables(table: Table, key: str) -> list[Table]:
    found = table.tables(key)
    if len(found) > _MOST_ACCEPTED:
        table.problems.add(table.place(key), f"there are {len(found)}, and at most {_MOST_ACCEPTED} are read")
    return found[:_MOST_ACCEPTED]


def _seconds(table: Table, key: str) -> int | None:
    text = table.text(key)
    if text is None:
        return None
    found = seconds_in(text)
    if found is None:
        table.problems.add(table.place(key), f"'{text[:60]}' is not a time such as '14d' or '12h'")
    return found


def _severity(table: Table) -> float | None:
    if "severity" not in table:
        return None
    score = table.number("severity")
    if score is not None and not 0 <= score <= _HIGHEST:
        table.problems.add(table.place("severity"), f"{score:g} is not a score from 0 to 10")
    return score


def _accepted(entry: Table) -> Accepted:
    entry.allow_only("id", "reason", "until")
    name, reason = entry.required("id"), entry.required("reason")
    for key, text in (("id", name), ("reason", reason)):
        if not text.strip() or not text.isprintable() or len(text) > LONGEST_LINE:
            entry.problems.add(entry.place(key), "must be one line of text")
    return Accepted(id=name, reason=reason, until=_day(entry, "until"))


def _day(entry: Table, key: str) -> date:
    """A day, as TOML writes days or as a text."""
    found = entry.day(key)
    if isinstance(found, datetime):
        found = found.date()
    if found is None:
        entry.problems.add(entry.place(key), "must be a day such as 2027-03-01")
    return found or date.min


def _licences(table: Table) -> LicenceRule | None:
    if "licences" not in table:
        return None
    if not table.holds_table("licences"):
        return LicenceRule(allowed=_expressions(table, "licences"))
    inner = table.table("licences", "allow", "except", "unknown")
    exempt = inner.table("except")
    unknown = inner.text("unknown") or "refuse"
    if unknown not in ("refuse", "note"):
        inner.problems.add(inner.place("unknown"), f"'{unknown[:60]}' is not one of: refuse, note")
    return LicenceRule(
        allowed=_expressions(inner, "allow"),
        exempt={library_name(name): _reason(exempt, name) for name in exempt if _named(exempt, name)},
        unknown_refuses=unknown == "refuse",
    )


def _reason(table: Table, key: str) -> str:
    reason = table.required(key)
    if not reason.strip():
        table.problems.add(table.place(key), "must give a reason")
    return reason


def _named(table: Table, key: str) -> bool:
    if not is_name(key):
        table.problems.add(table.place(key), "is not the name of a library")
        return False
    return True


def _expressions(table: Table, key: str) -> tuple[str, ...]:
    found = []
    for text in table.texts(key):
        expression = canonical(text)
        if expression is None:
            table.problems.add(table.place(key), f"'{text[:60]}' is not an SPDX expression such as 'MIT'")
        else:
            found.append(expression)
    return tuple(found)


def _age(table: Table) -> AgeRule | None:
    if "age" not in table:
        return None
    if not table.holds_table("age"):
        return AgeRule(seconds=_seconds(table, "age") or 0)
    inner = table.table("age", "least", "libraries", "sources")
    if "least" not in inner:
        inner.problems.add(inner.place("least"), "is missing")
    return AgeRule(
        seconds=_seconds(inner, "least") or 0,
        libraries=_patterns(inner, "libraries"),
        sources=tuple(inner.texts("sources")),
    )


def _patterns(table: Table, key: str) -> tuple[str, ...]:
    found = tuple(table.texts(key))
    for text in found:
        if not _PATTERN.match(text):
            table.problems.add(table.place(key), f"'{text[:60]}' is not a name or pattern of libraries")
    return found


def _origin(table: Table) -> OriginRule:
    table.allow_only("only", "builds", "addresses", "commits", "yanked")
    only = table.table("only")
    for name in only:
        if not _PATTERN.match(name):
            only.problems.add(only.place(name), "is not a name or pattern of libraries")
    return OriginRule(
        only={name: tuple(only.texts(name)) for name in only},
        builds=table.get("builds", bool, True),
        addresses=table.get("addresses", bool, True),
        commits=table.get("commits", bool, True),
        yanked=table.get("yanked", bool, True),
    )
