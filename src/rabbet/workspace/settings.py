"""The user's settings, and the sources of a project: its own, else the user's."""

from collections.abc import Mapping

from msgspec import Struct, field

from rabbet.core.model.declaration import CatalogueEntry, Declaration, SourceEntry
from rabbet.core.model.language import Language
from rabbet.errors import NotUnderstood, SourceFailed
from rabbet.formats.address import hidden, is_address
from rabbet.formats.language_table import read_languages
from rabbet.formats.pyproject import read_catalogues, wrong_source
from rabbet.formats.toml import Table, parse_toml
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import read_text

__all__ = ["Settings", "known_sources", "read_settings", "users_origins", "users_source"]

SOURCE_VARIABLE = "RABBET_SOURCE"


def known_sources(declaration: Declaration, machine: Machine) -> tuple[SourceEntry, ...]:
    """The declared sources; where there are none, the user's.

    Raises `SourceFailed`, telling how to name one, when none is known.
    """
    if declaration.sources:
        return declaration.sources
    address = users_source(machine)
    if address:
        return (SourceEntry(name="default", url=address),)
    raise SourceFailed(
        "no source of libraries is known",
        because=[
            "pyproject.toml has no [[tool.rabbet.sources]]",
            f"the variable {SOURCE_VARIABLE} is not set",
            f"{machine.settings_file()} names no source",
        ],
        note="declare --source takes the address of an index, or a folder of wheels",
        remedy="rabbet help declare",
    )


class Settings(Struct, frozen=True, kw_only=True):
    """The user's own settings.

    A source, whether environments share files with the store, languages, catalogues of runtimes, and the
    `origins` that the credentials of a source's name are for.
    """

    source: str | None = None
    origins: Mapping[str, str] = field(default_factory=dict)
    share_files: bool = True
    languages: Mapping[str, Language] = field(default_factory=dict)
    catalogues: tuple[CatalogueEntry, ...] = ()


def read_settings(machine: Machine) -> Settings:
    """Read the settings; defaults where there are none. Raises `NotUnderstood`."""
    path = machine.settings_file()
    if not path.is_file():
        return Settings()
    table = parse_toml(read_text(path, by_hand=True), str(path))
    table.allow_only("source", "share-files", "languages", "catalogues", "origins")
    source = table.text("source")
    if source is not None and wrong_source(source):
        table.problems.add("source", f"'{hidden(source)}' {wrong_source(source)}")
    share_files = table.get("share-files", bool, True)
    languages = read_languages(table.table("languages"), trusted=True)
    catalogues = read_catalogues(table)
    origins = _origins(table)
    table.problems.raise_if_any()
    return Settings(
        source=source,
        share_files=share_files,
        languages=languages,
        catalogues=catalogues,
        origins=origins,
    )


def _origins(table: Table) -> dict[str, str]:
    """The addresses that names of sources stand for."""
    named = table.table("origins")
    found = {name: named.text(name) or "" for name in named}
    for name, address in found.items():
        if not is_address(address) or wrong_source(address):
            table.problems.add(named.place(name), "must be an address, such as https://HOST")
    return found


def users_origins(machine: Machine) -> Mapping[str, str]:
    """Addresses that the user's own files name, by names of sources; the user's own source is `default`.

    Raises `NotUnderstood`.
    """
    source = users_source(machine)
    return {**read_settings(machine).origins, **({"default": source} if source else {})}


def users_source(machine: Machine) -> str | None:
    """The user's own source: `RABBET_SOURCE`, else `source` in the settings. Raises `NotUnderstood`."""
    named = machine.environ.get(SOURCE_VARIABLE)
    if named and wrong_source(named):
        raise NotUnderstood(
            f"the variable {SOURCE_VARIABLE} names no source",
            because=[f"'{hidden(named)}' {wrong_source(named)}"],
        )
    return named or read_settings(machine).source
