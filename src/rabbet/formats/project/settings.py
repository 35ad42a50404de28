"""The user's own settings: `settings.toml` in the platform's folder for configurations."""

from collections.abc import Mapping

from msgspec import Struct, field

from rabbet.core.declaration.model import CatalogueEntry
from rabbet.core.model.language import Language
from rabbet.core.rules.model import RuleSet
from rabbet.formats.project.language_table import read_languages
from rabbet.formats.project.pyproject import read_catalogues, wrong_source
from rabbet.formats.project.rules_table import read_rules
from rabbet.formats.text.address import hidden, is_address
from rabbet.formats.text.toml import Table, parse_toml

__all__ = ["Settings", "read_settings"]


class Settings(Struct, frozen=True, kw_only=True):
    """The user's own settings.

    A source, whether environments share files with the store, languages, catalogues of runtimes, the
    `origins` that the credentials of a source's name are for, whether commands go on to the lock and the
    environment `now`, without being told to, and `rules` for the locks of all projects.
    """

    source: str | None = None
    origins: Mapping[str, str] = field(default_factory=dict)
    share_files: bool = True
    languages: Mapping[str, Language] = field(default_factory=dict)
    catalogues: tuple[CatalogueEntry, ...] = ()
    now: bool = False
    rules: RuleSet | None = None


def read_settings(text: str, where: str) -> Settings:
    """Read the settings of the file that errors call `where`. Raises `NotUnderstood`."""
    table = parse_toml(text, where)
    table.allow_only("source", "share-files", "languages", "catalogues", "origins", "now", "rules")
    source = table.text("source")
    if source is not None and wrong_source(source):
        table.problems.add("source", f"'{hidden(source)}' {wrong_source(source)}")
    share_files = table.get("share-files", bool, True)
    now = table.get("now", bool, False)
    languages = read_languages(table.table("languages"), trusted=True)
    catalogues = read_catalogues(table)
    origins = _origins(table)
    rules = read_rules(table, "settings.toml", wrong_source)
    table.problems.raise_if_any()
    return Settings(
        source=source,
        share_files=share_files,
        languages=languages,
        catalogues=catalogues,
        origins=origins,
        now=now,
        rules=rules,
    )


def _origins(table: Table) -> dict[str, str]:
    """The addresses that names of sources stand for."""
    named = table.table("origins")
    found = {name: named.text(name) or "" for name in named}
    for name, address in found.items():
        if not is_address(address) or wrong_source(address):
            table.problems.add(named.place(name), "must be an address, such as https://HOST")
    return found
