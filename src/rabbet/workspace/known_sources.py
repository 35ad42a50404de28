"""The sources of a project: its own, else the user's."""

from collections.abc import Mapping

from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.errors import NotUnderstood, SourceFailed
from rabbet.formats.project.pyproject import wrong_source
from rabbet.formats.text.address import hidden
from rabbet.workspace.machine import Machine

__all__ = ["known_sources", "users_origins", "users_source"]

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
