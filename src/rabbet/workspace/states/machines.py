"""Inventories of other machines: those that were collected, and those from files, lists and places."""

from collections.abc import Iterator, Sequence
from hashlib import sha256
from typing import NamedTuple
from urllib.parse import quote

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.core.census.tags import Wanted, fits
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.release import Metadata
from rabbet.core.needs.need import Need
from rabbet.core.shown_text import some_of
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import EnvironmentFailed, NotUnderstood, SourceFailed
from rabbet.formats.cyclonedx import looks_like_inventory, read_inventory_file
from rabbet.net.git.own_repository import OwnRepository
from rabbet.net.git.shared_refs import collected_files, contents_of
from rabbet.python.environment.look.foreign import foreign_inventory
from rabbet.python.formats.requirement_list import read_requirement_list
from rabbet.team.database import Sent, StoredState, opened_database
from rabbet.team.extra import needing_extra
from rabbet.workspace.machine import CENSUS_VARIABLE, Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = [
    "NOBODY",
    "Unread",
    "census_group",
    "census_repository",
    "collected_machines",
    "kept_contents",
    "kept_machines",
    "machines_by_label",
    "machines_from",
    "stored_machines",
]

NOBODY = "machine"  # the label of a content that many machines of a database share
_ANY_PYTHON = Version("3")  # stands for one that nobody told
_SHOWN = 3  # labels of machines whose state can't be read


class Unread(NamedTuple):
    """An inventory that can't be read, and why."""

    what: str
    because: str


def collected_machines(
    session: Session, *, every: bool = False
) -> tuple[list[MachineInventory], list[Unread]]:
    """The newest collected inventory of each machine, or `every` one that is kept; and what can't be read.

    They come in the order in which they arrived, machine by machine.
    """
    own = census_repository(session.project, session.machine)
    try:
        files = collected_files(own, census_group(session.project))
        last = {file.label: file for file in files}
        read = list(contents_of(own, files if every else last.values()))
    except SourceFailed as error:
        return [], [Unread(what="what was collected", because="; ".join(map(str, (error, *error.because))))]
    found, unread = [], []
    for file, content in sorted(read):
        try:
            found.append(_read(content, file.label))
        except NotUnderstood as error:
            unread.append(
                Unread(
                    what=f"{file.label}, {file.name}", because="; ".join(map(str, (error, *error.because)))
                )
            )
    return found, unread


def census_group(project: Project) -> str:
    """Under which name the machines of a project stand, in git and databases; each variant has its own.

    A name with `+` is no project's, and what a ref can't hold is written as in a URL.
    """
    whose = [project.declaration().name, *([project.variant] if project.variant else [])]
    return "+".join(quote(part, safe="").replace("~", "%7E").replace(".", "%2E") for part in whose)


def census_repository(project: Project, machine: Machine) -> OwnRepository:
    """Where what was collected for a project is kept: in the store, apart from the project's repository."""
    name = sha256(str(project.folder.resolve()).encode(errors="surrogateescape")).hexdigest()
    return OwnRepository(machine.store_folder / "repositories" / f"census-{name}", machine.helpers_environ())


def stored_machines(
    project: Project, url: str, *, every: bool = False
) -> Iterator[tuple[MachineInventory | Unread, tuple[Sent, ...]]]:
    """The contents of a database, each read once, with the machines and times that it stands for.

    Raises `SourceFailed`, and `EnvironmentFailed` without the extra `team`.
    """
    with needing_extra("a database"), opened_database(url) as database:
        group = census_group(project)
        for stored in database.every(group) if every else database.newest(group):
            try:
                yield read_inventory_file(stored.content, NOBODY), stored.sent
            except NotUnderstood as error:
                yield _unread_state(stored, error), stored.sent


def kept_contents(
    session: Session, url: str | None, wanted: Wanted
) -> Iterator[tuple[MachineInventory | Unread, tuple[Sent, ...]]]:
    """Every kept content of machines with these tags, read once, with the machines and times it stands for.

    Without a database each inventory that was collected is one; those of a machine come as they arrived.
    Raises what `stored_machines` raises.
    """
    if url:
        for machine, sent in stored_machines(session.project, url, every=True):
            if isinstance(machine, Unread) or fits(machine.tags, wanted):
                yield machine, sent
        return
    machines, unread = collected_machines(session, every=True)
    yield from ((entry, ()) for entry in unread)
    for number, machine in enumerate(machines):
        if fits(machine.tags, wanted):
            yield machine, (Sent(machine.label, machine.recorded, number),)


def _unread_state(stored: StoredState, error: NotUnderstood) -> Unread:
    labels = sorted({sent.label for sent in stored.sent})
    return Unread(
        what=f"what the database has of {some_of(labels, _SHOWN)}",
        because="; ".join(error.because) if stored.content else "it is damaged, or larger than any inventory",
    )


def kept_machines(
    session: Session, url: str | None, *, every: bool = False
) -> tuple[list[MachineInventory], list[Unread]]:
    """The newest inventory of each machine, or `every` one that is kept; and what can't be read.

    They are those of a database by its URL, else those that were collected, and come as
    `collected_machines` has them. Raises what `stored_machines` raises.
    """
    if not url:
        return collected_machines(session, every=every)
    found, unread = [], []
    for machine, sent in stored_machines(session.project, url, every=every):
        if isinstance(machine, Unread):
            unread.append(machine)
        else:
            found += [(them, replace(machine, label=them.label, recorded=them.recorded)) for them in sent]
    return [machine for _, machine in sorted(found, key=lambda pair: (pair[0].label, pair[0].number))], unread


def machines_by_label(session: Session) -> dict[str, MachineInventory]:
    """The newest inventory of each machine: of the database that a variable names, else those collected.

    Raises what `stored_machines` raises.
    """
    url = session.machine.environ.get(CENSUS_VARIABLE)
    return {machine.label: machine for machine in kept_machines(session, url or None)[0]}


def _read(content: bytes | None, label: str) -> MachineInventory:
    """An inventory that somebody sent; the ref says whose it is, whatever it says itself."""
    if content is None:
        raise NotUnderstood("it is not there, or larger than any inventory")
    return replace(read_inventory_file(content.decode("utf-8", "replace"), label), label=label)


def machines_from(places: Sequence[str], machine: Machine) -> tuple[list[MachineInventory], list[Unread]]:
    """The inventories in the named places, and the files that can't be read.

    Raises `NotUnderstood` or `EnvironmentFailed` where none can.
    """
    found, unread = [], []
    failed: NotUnderstood | EnvironmentFailed | None = None
    for place in places:
        try:
            found.append(_machine_from(place, machine))
        except (NotUnderstood, EnvironmentFailed) as error:
            failed = failed or error
            unread.append(Unread(what=place, because="; ".join(error.because) or str(error)))
    if failed is not None and not found:
        raise failed
    return found, unread


def _machine_from(place: str, machine: Machine) -> MachineInventory:
    """An inventory file, a list of pins, or an environment. Raises `NotUnderstood`, `EnvironmentFailed`."""
    path = path_named(place, machine.folder)
    if path.is_dir():
        inventory = foreign_inventory(path, _ANY_PYTHON, sound=True)
        told = inventory.python if inventory.python != _ANY_PYTHON else None
        return _stranger(path.resolve().name, inventory, told)
    text = read_text(path)
    if looks_like_inventory(text):
        return read_inventory_file(text, place)
    try:
        needs = [line.need for line in read_requirement_list(text) if line.need is not None]
    except ValueError as error:
        raise NotUnderstood(f"{place} is not an inventory", because=[str(error)]) from error
    libraries = dict(_pins(needs))
    if not libraries:
        raise NotUnderstood(f"{place} is not an inventory", because=["it lists no exact versions"])
    inventory = Inventory(python=_ANY_PYTHON, implementation="cpython", libraries=libraries)
    return _stranger(path.stem, inventory, None)


def _pins(needs: list[Need]) -> Iterator[tuple[NormalizedName, Installed]]:
    for need in needs:
        exact = [
            clause.version
            for clause in need.specifier
            if clause.operator == "==" and "*" not in clause.version
        ]
        if exact:
            version = Version(exact[0])
            untold = Metadata(
                name=need.name,
                version=version,
                requires_python=SpecifierSet(),
                needs=(),
                extras=frozenset(),
            )
            yield need.name, Installed(name=need.name, version=version, folder="", metadata=untold)


def _stranger(label: str, inventory: Inventory, python: Version | None) -> MachineInventory:
    """A machine of which nobody told when it was looked at, and on which platform."""
    return MachineInventory(
        label=label, recorded=0, project="", platform="", python=python, inventory=inventory
    )
