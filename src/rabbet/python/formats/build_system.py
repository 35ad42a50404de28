"""`[build-system]` of a source tree's `pyproject.toml` (PEP 517, 518), and options for builds."""

import posixpath
import re

from rabbet.core.limits import LONGEST_TEXT, MOST_NEEDS
from rabbet.core.model.build import BuildOptions, BuildSystem
from rabbet.core.needs.need import Need
from rabbet.errors import NotUnderstood
from rabbet.formats.text.requirement import parse_requirement
from rabbet.formats.text.toml import Table, parse_toml

__all__ = ["build_system_in", "legacy_build_system", "read_build_options", "read_build_system"]

# What builds a tree that names no back end (PEP 517, "Source trees").
_LEGACY_BACKEND = "setuptools.build_meta:__legacy__"
_LEGACY_NEEDS = "setuptools>=40.8"
_VARIABLE = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,99}\Z")
_OWN_VARIABLES = frozenset({"PATH", "HOME", "TMPDIR", "LANG"})  # a build gets its own of them
_BACKEND = re.compile(r"[A-Za-z_][\w.]*(:[A-Za-z_][\w.]*)?\Z")


def read_build_system(pyproject: str | None, where: str) -> BuildSystem:
    """How a tree is built; one that does not say so is built as all were before there was a standard.

    Raises `NotUnderstood`.
    """
    document = parse_toml(pyproject or "", where)
    found = build_system_in(document) or legacy_build_system()
    document.problems.raise_if_any()
    return found


def build_system_in(document: Table) -> BuildSystem | None:
    """The table in a whole file, if it is there; what is wrong with it is noted."""
    if "build-system" not in document:
        return None
    table = document.table("build-system")
    if "requires" not in table:
        table.problems.add(table.place("requires"), "is missing")
    requires = tuple(_requirements(table))
    backend = table.text("build-backend")
    if backend is None:
        return legacy_build_system(requires)
    if not _BACKEND.match(backend) or len(backend) > LONGEST_TEXT:
        table.problems.add(table.place("build-backend"), f"'{backend[:60]}' is not a module and an object")
    folders = tuple(table.texts("backend-path"))
    for folder in folders:
        if posixpath.isabs(folder) or posixpath.normpath(folder).startswith("..") or "\0" in folder:
            table.problems.add(table.place("backend-path"), f"'{folder[:60]}' is not a folder of the tree")
    return BuildSystem(requires=requires, backend=backend, backend_path=folders)


def legacy_build_system(requires: tuple[Need, ...] = ()) -> BuildSystem:
    """How a tree is built that names no back end (PEP 517, "Source trees")."""
    return BuildSystem(requires=requires or (parse_requirement(_LEGACY_NEEDS),), backend=_LEGACY_BACKEND)


def read_build_options(entry: Table) -> BuildOptions:
    """The `variables` and `settings` for one build; what is wrong with them is noted."""
    variables, settings = entry.table("variables"), entry.table("settings")
    for name in variables:
        if not _VARIABLE.match(name) or name in _OWN_VARIABLES:
            variables.problems.add(
                variables.place(ascii(name)), "is not a variable that a build can be given"
            )
    return BuildOptions(variables=_printable(variables), settings=_printable(settings))


def _printable(table: Table) -> dict[str, str]:
    """The texts of a table, on one line each: a process takes no NUL in a variable."""
    found = {key: table.text(key) or "" for key in table}
    for key, value in found.items():
        if not f"{key}{value}".isprintable():
            table.problems.add(table.place(ascii(key)), "holds what can't be printed")
    return found


def _requirements(table: Table) -> list[Need]:
    found = []
    texts = table.texts("requires")
    if len(texts) > MOST_NEEDS:
        table.problems.add(table.place("requires"), f"are {len(texts)}, and at most {MOST_NEEDS} are read")
    for number, text in enumerate(texts[:MOST_NEEDS]):
        try:
            found.append(parse_requirement(text))
        except NotUnderstood as error:
            place = f"{table.place('requires')}[{number}]"
            table.problems.add(place, "\n".join([str(error), *error.because]))
    return found
