"""The parts of a TOML document that is changed while its comments, order and formatting stay."""

import re
from collections.abc import Iterable, Mapping
from typing import Any, TypeAlias

import tomlkit
from packaging.utils import NormalizedName
from tomlkit.container import OutOfOrderTableProxy
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import AbstractTable, AoT, Array, InlineTable

from rabbet.core.declaration.edit import EditResult
from rabbet.core.declaration.model import Section
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.errors import NotUnderstood, WrongUsage
from rabbet.formats.text.requirement import parse_requirement

__all__ = [
    "AnyTable",
    "absent",
    "entries_of",
    "made",
    "made_settings",
    "parse_document",
    "put",
    "set_text",
    "settings_list",
    "settings_of",
    "table_of",
    "unset",
    "written_name",
]

_BEHIND_NAME = re.compile(r"[^A-Za-z0-9._-]")

AnyTable: TypeAlias = AbstractTable | OutOfOrderTableProxy


def absent(message: str, known: Iterable[object] = (), *, given: str = "") -> WrongUsage:
    """The error for what is not there to be retracted; near what was `given` may be what was meant."""
    entries = [entry for entry in known if entry is not None]
    texts = [str(entry) for entry in entries]
    near = near_names(given, map(_name_of, entries))
    return WrongUsage(
        message,
        because=[f"there are: {', '.join(texts)}"] if texts else [],
        meant=(given, near[0]) if near else None,
        remedy="rabbet declare",
    )


def _name_of(entry: object) -> str:
    """The name of a section, or of what a requirement asks for."""
    return entry.name if isinstance(entry, Section) else _BEHIND_NAME.split(str(entry))[0]


def parse_document(text: str) -> tomlkit.TOMLDocument:
    """Take a declaration's text apart. Raises `NotUnderstood`."""
    try:
        return tomlkit.parse(text)
    except TOMLKitError as error:
        raise NotUnderstood("pyproject.toml is not valid TOML", because=[str(error)]) from error


def table_of(document: tomlkit.TOMLDocument, key: str) -> AnyTable:
    """A table at the top, made if need be. Raises `NotUnderstood` where something else has its name."""
    if key not in document:
        document.add(key, tomlkit.table())
    table = document[key]
    if not isinstance(table, AbstractTable | OutOfOrderTableProxy):
        raise NotUnderstood(f"pyproject.toml: {key} must be a table")
    return table


def settings_of(document: tomlkit.TOMLDocument) -> Any:  # noqa: ANN401 - tomlkit has many kinds of tables
    """`[tool.rabbet]` as it is, perhaps an empty one that belongs to no file."""
    return document.get("tool", {}).get("rabbet", {})


def made_settings(document: tomlkit.TOMLDocument) -> AnyTable:
    """`[tool.rabbet]`, made if need be."""
    return made(document.setdefault("tool", tomlkit.table(is_super_table=True)), "rabbet")


def put(table: AnyTable, key: str, value: object) -> None:
    """Add what is not there yet; a table whose parts stand apart has no `add`."""
    if isinstance(table, OutOfOrderTableProxy):
        table[key] = value
    else:
        table.add(key, value)


def made(table: AnyTable, key: str) -> AnyTable:
    """A table inside another one, made if need be."""
    if key not in table:  # an inline table can hold no other ones
        put(table, key, tomlkit.inline_table() if isinstance(table, InlineTable) else tomlkit.table())
    made: AnyTable = table[key]
    return made


def settings_list(document: tomlkit.TOMLDocument, key: str) -> Array:
    """A list under `[tool.rabbet]`, made if need be."""
    settings = made_settings(document)
    if key not in settings:
        array = tomlkit.array()
        tables = any(isinstance(value, AbstractTable | AoT) for value in settings.values())
        array.trivia.trail = "\n\n" if tables else "\n"  # tables inside come behind it
        for value in settings.values():
            if isinstance(value, Array):
                value.trivia.trail = "\n"
        put(settings, key, array)
    found: Array = settings[key]
    return found


def written_name(table: Mapping[str, object], name: str) -> str:
    """The key that stands for a name, in whatever form it is written."""
    same = [key for key in table if library_name(key) == library_name(name)]
    return same[0] if same else name


def set_text(table: AnyTable, key: str, value: str, place: str) -> EditResult:
    """Set a text in a table that messages call `place`."""
    before = str(table.get(key, ""))
    if before != value or key not in table:
        table[key] = value
    return EditResult(place=f"{place}.{key}", before=before, after=value)


def unset(table: AnyTable, key: str, place: str) -> EditResult:
    """Remove a key from a table that messages call `place`."""
    before = str(table[key])
    del table[key]
    return EditResult(place=f"{place}.{key}", before=before)


def entries_of(array: Array, name: NormalizedName) -> list[int]:
    """The positions of a library's entries."""
    texts = [(number, entry) for number, entry in enumerate(array) if isinstance(entry, str)]
    return [number for number, entry in texts if parse_requirement(entry).name == name]
