"""The sources of a project: its own, else the user's."""

from collections.abc import Mapping

from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import NotUnderstood, SourceFailed
from rabbet.formats.project.pyproject import wrong_source
from rabbet.formats.text.address import hidden, is_address
from rabbet.workspace.machine import Machine

__all__ = ["ABOUT_SOURCES", "FOR_PROJECT", "keep_for_all", "known_sources", "users_origins", "users_source"]

SOURCE_VARIABLE = "RABBET_SOURCE"
ABOUT_SOURCES = (
    "libraries come from an index with the simple repository API, your team's own or the public one, or from"
    " a folder of wheels; the documents of an index tell its address, which often ends in /simple/"
)
FOR_PROJECT = "rabbet declare --source ADDRESS"
FOR_ALL = "rabbet declare --source ADDRESS --for-all-projects"


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
            f"pyproject.toml declares none, {SOURCE_VARIABLE} is not set,",
            f"and {machine.settings_file()} names none",
        ],
        note="\n".join([ABOUT_SOURCES, f"for this project: {FOR_PROJECT}", f"for all: {FOR_ALL}"]),
        remedy="rabbet begin",
    )


def keep_for_all(machine: Machine, address: str) -> None:
    """Make a source that of all the user's projects that declare none: `source` in the settings.

    Raises `NotUnderstood` for settings or a source that can't be read, `CannotWrite`.
    """
    from rabbet.disk.atomic import cannot_write, write_text
    from rabbet.formats.text.toml_document import parse_document

    if wrong_source(address):
        raise NotUnderstood(f"'{hidden(address)}' {wrong_source(address)}")
    machine.settings()  # which refuses what would not be read afterwards
    path = machine.settings_file()
    document = parse_document(read_text(path, by_hand=True) if path.is_file() else "")
    document["source"] = address if is_address(address) else str(path_named(address, machine.folder))
    with cannot_write(path.parent):
        path.parent.mkdir(parents=True, exist_ok=True)
    write_text(path, document.as_string())


def users_origins(machine: Machine) -> Mapping[str, str]:
    """Addresses that the user's own files name, by names of sources; the user's own source is `default`.

    Raises `NotUnderstood`.
    """
    source = users_source(machine)
    return {**machine.settings().origins, **({"default": source} if source else {})}


def users_source(machine: Machine) -> str | None:
    """The user's own source: `RABBET_SOURCE`, else `source` in the settings. Raises `NotUnderstood`."""
    named = machine.environ.get(SOURCE_VARIABLE)
    if named and wrong_source(named):
        raise NotUnderstood(
            f"the variable {SOURCE_VARIABLE} names no source",
            because=[f"'{hidden(named)}' {wrong_source(named)}"],
        )
    return named or machine.settings().source
