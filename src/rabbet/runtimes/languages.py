"""The languages that Rabbet knows beside Python: a table of data, `languages.toml`."""

from collections.abc import Mapping

from rabbet.core.model.language import Language
from rabbet.formats.project.language_table import read_languages
from rabbet.formats.text.toml import parse_toml

__all__ = ["known_languages"]


def known_languages() -> Mapping[str, Language]:
    """The languages of the table, by their names."""
    from importlib.resources import (
        files,
    )  # here: it takes long to import, and most projects need Python alone

    name = "languages.toml"
    table = parse_toml(files("rabbet.runtimes").joinpath(name).read_text(encoding="utf-8"), name)
    languages = read_languages(table, trusted=True)
    table.problems.raise_if_any()
    return languages
