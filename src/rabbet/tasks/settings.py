"""Which sources a project has: its own, else the user's."""

from rabbet.core.model.declaration import Declaration, SourceEntry
from rabbet.errors import SourceFailed
from rabbet.formats.toml import parse_toml
from rabbet.tasks.machine import Machine
from rabbet.tasks.project import read_text

__all__ = ["known_sources", "users_source"]

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
        remedy="rabbet begin --source URL_OR_FOLDER  (the address of an index, or a folder of wheels)",
    )


def users_source(machine: Machine) -> str | None:
    """The user's own source: `RABBET_SOURCE`, else `source` in the settings. Raises `NotUnderstood`."""
    named = machine.environ.get(SOURCE_VARIABLE)
    if named:
        return named
    path = machine.settings_file()
    if not path.is_file():
        return None
    settings = parse_toml(read_text(path), str(path))
    settings.allow_only("source")
    source = settings.text("source")
    settings.problems.raise_if_any()
    return source
