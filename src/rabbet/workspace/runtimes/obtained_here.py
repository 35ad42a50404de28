"""The runtimes in the store that count for a project, by where they came from."""

from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from packaging.version import Version

from rabbet.core.declaration.model import CatalogueEntry, Declaration, SourceEntry
from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import Runtime
from rabbet.core.needs.need import Need
from rabbet.disk.named import path_named
from rabbet.errors import RabbetError, SourceFailed
from rabbet.formats.text.address import is_address, parse_address
from rabbet.store.layout import OBTAINED
from rabbet.workspace.known_sources import known_sources
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project

if TYPE_CHECKING:
    from rabbet.store.obtained import Obtained

__all__ = [
    "CATALOGUE_FILE",
    "NOBODY",
    "SOURCE",
    "belonging_to",
    "catalogue_address",
    "obtained_runtimes",
    "source_address",
    "users_catalogues",
]

CATALOGUE_FILE = "catalogue.json"  # the name of a catalogue in a folder
SOURCE = "source "  # the beginning of what stands for a folder of wheels
NOBODY = Declaration(name="", python=Need.parse("python").specifier, needs=(), groups={}, sources=())
"""What is declared outside of any project."""


def obtained_runtimes(machine: Machine, project: Project | None) -> list[Runtime]:
    """The runtimes in the store that count for a project, of all languages; versions are the catalogues'."""
    if not (machine.store_folder / OBTAINED).is_dir():
        return []
    return [
        Runtime(
            language=obtained.language,
            version=Version(obtained.version),
            executable=str(obtained.path(machine.store_folder)),
            distributor=obtained.distributor,
        )
        for obtained in _obtained_for(machine, project)
    ]


def _obtained_for(machine: Machine, project: Project | None) -> "tuple[Obtained, ...]":
    """The obtained runtimes that count: those from catalogues and sources that the project or the user names.

    What the project's lock names counts, too, as the lock names it. What another project's catalogue brought
    does not.
    """
    from rabbet.store.obtained import ObtainedRuntimes  # here: few machines have any

    found = ObtainedRuntimes(machine.store_folder).all()
    if not found:
        return ()
    declaration, folder = (project.declaration(), project.folder) if project else (NOBODY, machine.home)
    addresses = {catalogue_address(entry, folder) for entry in declaration.catalogues}
    users_folder, users = users_catalogues(machine)
    addresses |= {catalogue_address(entry, users_folder) for entry in users}
    with suppress(SourceFailed):  # no source is known
        addresses |= {source_address(entry, folder) for entry in known_sources(declaration, machine)}
    locked = _locked_runtimes(project) if project else ()
    return tuple(
        obtained
        for obtained in found
        if not addresses.isdisjoint(obtained.catalogues) or any(map(obtained.is_named_by, locked))
    )


def _locked_runtimes(project: Project) -> tuple[LockedRuntime, ...]:
    """The runtimes that a project's lock names; none where it has no lock that can be read."""
    try:
        return project.lock().runtimes
    except RabbetError:
        return ()


def users_catalogues(machine: Machine) -> tuple[Path, Sequence[CatalogueEntry]]:
    """The catalogues that the user's own settings name, and the folder that their paths start from."""
    return machine.settings_file().parent, machine.settings().catalogues


def belonging_to(folder: Path) -> str:
    """The suffix that ties a folder source in the store's notes to this project."""
    return f" of {folder}"


def source_address(entry: SourceEntry, folder: Path) -> str:
    """The identity of a source: its address; for a folder its name and its project."""
    if is_address(entry.url) and not entry.url.startswith("file:"):
        return parse_address(entry.url).text.rstrip("/") + "/"
    return f"{SOURCE}{entry.name}{belonging_to(folder)}"


def catalogue_address(entry: CatalogueEntry, folder: Path) -> str:
    """The address of a catalogue, which may lie in a file or a folder whose path is relative."""
    if not is_address(entry.url):
        path = path_named(entry.url, folder).resolve()
        return (path / CATALOGUE_FILE if path.is_dir() else path).as_uri()
    address = parse_address(entry.url).text
    if entry.registry:
        return address.rstrip("/") + "/"
    return address + CATALOGUE_FILE if address.endswith("/") else address
