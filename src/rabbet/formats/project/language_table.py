"""A table of languages → model: how their runtimes are found, from any TOML file that may tell it."""

import re
from collections.abc import Mapping

from packaging.specifiers import SpecifierSet

from rabbet.archives.places import is_inside
from rabbet.core.model.language import PLACEHOLDER, Language, is_language
from rabbet.errors import NotUnderstood
from rabbet.formats.text.requirement import parse_versions
from rabbet.formats.text.toml import Table

__all__ = ["read_languages", "versions_of"]

_KEYS = ("programs", "ask", "told", "variables", "distributors", "needs", "files", "script")
_PROGRAM = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]*\Z")
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*\Z")


def read_languages(table: Table, *, trusted: bool) -> dict[str, Language]:
    """All languages of a table, by name; what is wrong with it is noted as its problems.

    What comes with a clone is not `trusted`: its programs are not asked, and it sets no variables.
    """
    found = {}
    for name in table:
        entry = table.table(name, *_KEYS)
        needs, by_file = entry.table("needs"), entry.table("files")
        if not is_language(name):
            table.problems.add(
                table.place(name), "is not a language's name: small letters and digits make one"
            )
        if name == "python":
            table.problems.add(table.place(name), "is a language that Rabbet knows by itself")
        found[name] = Language(
            name=name,
            programs=_fitting(entry, "programs", _PROGRAM, "a program's name"),
            ask=tuple(entry.texts("ask")),
            told=tuple(entry.texts("told")),
            variables=_texts(entry.table("variables")),
            distributors=_texts(entry.table("distributors")),
            needs={key: versions_of(needs, key) for key in needs},
            files={place: tuple(by_file.texts(place)) for place in by_file},
            is_script=entry.get("script", bool, False),
            trusted=trusted,
        )
        _check(entry, found[name])
    return found


def _check(entry: Table, language: Language) -> None:
    if not language.programs:
        entry.problems.add(entry.place("programs"), "must name at least one program")
    if not language.told or any(text.count(PLACEHOLDER) != 1 for text in language.told):
        entry.problems.add(entry.place("told"), f"must be texts that hold {PLACEHOLDER} once")
    for place, texts in language.files.items():
        if not is_inside(place) or not texts or any(text.count(PLACEHOLDER) != 1 for text in texts):
            wrong = f"must be a place inside a runtime, with texts that hold {PLACEHOLDER} once"
            entry.problems.add(entry.place(f"files.{place[:60]}"), wrong)
    for name in language.variables:
        if not _VARIABLE.match(name):
            entry.problems.add(entry.place(f"variables.{name[:60]}"), "is not a variable's name")
    if language.variables and not language.trusted:
        entry.problems.add(entry.place("variables"), "can be set by your own settings.toml alone")


def _fitting(entry: Table, key: str, form: re.Pattern[str], what: str) -> tuple[str, ...]:
    texts = entry.texts(key)
    for text in texts:
        if not form.match(text):
            entry.problems.add(entry.place(key), f"'{text[:60]}' is not {what}")
    return tuple(texts)


def _texts(table: Table) -> Mapping[str, str]:
    return {key: table.required(key) for key in table}


def versions_of(table: Table, key: str) -> SpecifierSet:
    """The versions that a key allows. An unreadable one is recorded as a problem, and allows any version."""
    try:
        return parse_versions(table.text(key) or "")
    except NotUnderstood as error:
        table.problems.add(table.place(key), "; ".join([str(error), *error.because]))
        return SpecifierSet()
