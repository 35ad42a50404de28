"""Reading TOML tables with errors that say where, all of a file's problems at once."""

import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from datetime import date, datetime
from typing import TypeVar

from rabbet.core.limits import DEEPEST, MOST_PROBLEMS
from rabbet.core.moment import is_moment
from rabbet.errors import NotUnderstood

__all__ = ["Problems", "Table", "parse_content", "parse_toml"]

Kind = TypeVar("Kind")
_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_BETWEEN = re.compile(r"[,={}\[\]#]")
_BARE = re.compile(r"\s*[\w-]+\s*\Z")
_NAMES = {str: "a text", int: "a whole number", bool: "true or false", list: "a list", dict: "a table"}


def parse_content(text: str) -> dict[str, object]:
    """The content of a document. Raises `ValueError`, with the place, for whatever is wrong with it."""
    deep = _too_deep(text)
    if deep:
        raise ValueError(deep)
    try:
        return tomllib.loads(text)
    except RecursionError as error:
        raise ValueError("brackets are nested too deep") from error
    except (OverflowError, MemoryError) as error:
        raise ValueError(str(error) or type(error).__name__) from error


def parse_toml(
    text: str,
    where: str,
    *,
    note: str = "settle the merge first",
    remedy: str = "",
    broken: str = "",
    parse: Callable[[str], dict[str, object]] = parse_content,
) -> "Table":
    """Parse a document.

    Raises `NotUnderstood` with line and column, and says so when a merge left its marks in the file; `note`
    and `remedy` are what to do then, `broken` is what to do about any other text. It may be taken apart by
    another function than `parse_content`.
    """
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith(("<<<<<<< ", ">>>>>>> ")):
            raise NotUnderstood(
                f"{where} holds the marks of an unfinished merge",
                because=[f"line {number}: {line[:60]}"],
                note=note,
                remedy=remedy,
            )
    try:
        return Table(parse(text), Problems(where))
    except ValueError as error:
        raise NotUnderstood(f"{where} is not valid TOML", because=[str(error)], remedy=broken) from error


def _too_deep(text: str) -> str | None:
    """Where a dotted key has more parts than any that people write, if one has.

    It is told before the text is parsed, for the parser takes minutes for such a key.
    """
    for number, line in enumerate(text.splitlines(), 1):
        if line.count(".") > DEEPEST:
            for piece in _BETWEEN.split(_QUOTED.sub("q", line)):
                parts = piece.split(".")
                if len(parts) > DEEPEST and all(_BARE.match(part) for part in parts):
                    return f"line {number}: a key of {len(parts)} parts"
    return None


class Problems:
    """Collects all that is wrong with one file, each with its place."""

    def __init__(self, where: str) -> None:
        self._where = where
        self._found: list[str] = []

    def add(self, place: str, text: str) -> None:
        """Note one problem; further lines of `text` are indented below it."""
        self._found += [
            line if number else f"{place}: {line}" for number, line in enumerate(text.splitlines())
        ]

    def raise_if_any(self, *, remedy: str = "") -> None:
        """Raise `NotUnderstood` with everything that was noted."""
        if self._found:
            more = len(self._found) - MOST_PROBLEMS
            because = self._found[:MOST_PROBLEMS] + ([f"and {more} more"] if more > 0 else [])
            raise NotUnderstood(f"{self._where} can't be understood", because=because, remedy=remedy)


class Table:
    """A TOML table whose values are taken by the kind they must be of."""

    def __init__(self, content: Mapping[str, object], problems: Problems, path: str = "") -> None:
        self.problems = problems
        self._content = content
        self._path = path

    def place(self, key: str) -> str:
        """The key's full name, for messages."""
        return f"{self._path}.{key}" if self._path else key

    def __iter__(self) -> Iterator[str]:
        """All keys in their order."""
        return iter(self._content)

    def count(self) -> int:
        """How many values it holds, those inside lists and tables among them."""
        count = 0
        waiting: list[Mapping[str, object] | list[object]] = [self._content]
        while waiting:
            inner = waiting.pop()
            count += len(inner)
            values = inner.values() if isinstance(inner, Mapping) else inner
            waiting += [value for value in values if isinstance(value, dict | list)]
        return count

    def __contains__(self, key: str) -> bool:
        """Whether there is such a key."""
        return key in self._content

    def get(self, key: str, kind: type[Kind], default: Kind) -> Kind:
        """The value, or the default where it is missing or (noted as a problem) of another kind."""
        value = self._content.get(key, default)
        if isinstance(value, kind) and not (kind is int and isinstance(value, bool)):
            return value
        self.problems.add(self.place(key), f"must be {_NAMES[kind]}")
        return default

    def text(self, key: str) -> str | None:
        """A text that may be missing."""
        return self.get(key, str, "") if key in self._content else None

    def required(self, key: str) -> str:
        """A text that must be there."""
        if key not in self._content:
            self.problems.add(self.place(key), "is missing")
        return self.get(key, str, "")

    def number(self, key: str) -> float | None:
        """A number that may be missing."""
        value = self._content.get(key)
        if value is None or (isinstance(value, int | float) and not isinstance(value, bool)):
            return value
        self.problems.add(self.place(key), "must be a number")
        return None

    def day(self, key: str) -> date | None:
        """A day, as TOML writes days or as a text in ISO form; `None` for anything else."""
        value = self._content.get(key)
        if isinstance(value, str):
            with suppress(ValueError):
                return date.fromisoformat(value)
            return None
        return value if isinstance(value, date) else None

    def moment(self, key: str) -> str | None:
        """A moment in ISO form, as TOML writes moments or as a text; `None` for anything else."""
        value = self._content.get(key)
        text = value.isoformat() if isinstance(value, datetime) else value
        return text if isinstance(text, str) and is_moment(text) else None

    def texts(self, key: str) -> list[str]:
        """A list of texts; empty where it is missing."""
        values = self.get(key, list, [])
        if all(isinstance(value, str) for value in values):
            return values
        self.problems.add(self.place(key), "must be a list of texts")
        return []

    def table(self, key: str, *only: str) -> "Table":
        """A table inside, with these keys only if any are given; empty where it is missing."""
        table = Table(self.get(key, dict, {}), self.problems, self.place(key))
        if only:
            table.allow_only(*only)
        return table

    def holds_table(self, key: str) -> bool:
        """Whether a key's value is a table, where it may be something else."""
        return isinstance(self._content.get(key), dict)

    def tables(self, key: str) -> "list[Table]":
        """A list of tables; empty where it is missing."""
        values = self.get(key, list, [])
        for number, value in enumerate(values):
            if not isinstance(value, dict):
                self.problems.add(f"{self.place(key)}[{number}]", "must be a table")
        return [
            Table(value, self.problems, f"{self.place(key)}[{number}]")
            for number, value in enumerate(values)
            if isinstance(value, dict)
        ]

    def allow_only(self, *keys: str) -> None:
        """Note every other key as a problem: what is not understood must not be passed over."""
        for key in self._content:
            if key not in keys:
                self.problems.add(self.place(key), f"is not known here (known: {', '.join(keys)})")
