"""States that can be compared: a lock file, a revision in git, or what is installed.

FILE          a lock file, or an inventory in CycloneDX JSON, of any tool
git:REV       the project's lock at a revision; a revision alone will do where no file has that name
installed     what is installed in the project's environment
machine:LABEL what a machine of the team has, by the newest inventory that was collected of it
env:PATH      what is installed in a folder: an environment of any tool, or an interpreter's
"""

from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Literal

from msgspec import Struct
from packaging.version import InvalidVersion, Version

from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.build import Told
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Lock, LockedLibrary, LockedRuntime
from rabbet.core.near_names import near_names
from rabbet.core.shell import quoted
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import is_there
from rabbet.disk.text_file import read_text
from rabbet.errors import NoLock, RabbetError, WrongUsage
from rabbet.formats.cyclonedx import libraries_of, looks_like_inventory, read_inventory_file
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.pylock import read_lock
from rabbet.net.git.revisions import file_at
from rabbet.python.environment.look.foreign import foreign_inventory
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.workspace.project import DECLARATION, Project
from rabbet.workspace.session import Session
from rabbet.workspace.states.machines import machines_by_label

__all__ = ["ComparedState", "parse_state", "read_state"]

_SHOWN = 5  # labels in a message
_ANY_PYTHON = Version("3")  # where nothing tells which one: only libraries are compared


class ComparedState(Struct, frozen=True, kw_only=True):
    """A state by its name: libraries as a lock holds them, and the declaration that goes with it, if any.

    What is `installed` somewhere holds nothing for other machines, and tells of no files. Its runtimes are
    those that it was found with.
    """

    name: str
    lock: Lock
    declaration: Declaration | None = None
    installed: bool = False


def parse_state(text: str) -> tuple[Literal["installed", "env", "machine", "git", "any"], str]:
    """The kind of a state and what names it; `any` is a file or else a revision."""
    if text == "installed":
        return "installed", ""
    kind, colon, value = text.partition(":")
    if colon and kind in ("env", "git", "machine"):
        return kind, value  # type: ignore[return-value]
    return "any", text


def read_state(session: Session, named: str) -> ComparedState:
    """Read a state. Raises `NoLock`, `NotUnderstood`, `SourceFailed`, `EnvironmentFailed`."""
    kind, value = parse_state(named)
    if kind == "installed":
        return _of_inventory(named, take_inventory(session.project.environment, None, sound=True))
    if kind == "env":
        place = path_named(value, session.machine.folder)
        return _of_inventory(named, foreign_inventory(place, _ANY_PYTHON, sound=True))
    if kind == "machine":
        return _of_machine(named, _collected(value, session))
    path = path_named(value, session.machine.folder)
    if kind == "any" and is_there(path):
        text = read_text(path)
        if looks_like_inventory(text):
            read = read_inventory_file(text, named)
            return _of_machine(named, read)
        return _of_file(session.project, path, named, text)
    if path == session.project.lock_file:
        session.lock()  # which says that there is none
    return _of_revision(session, named, value)


def _of_machine(named: str, found: MachineInventory) -> ComparedState:
    """The installed libraries and the runtimes of a machine."""
    told = {**({"python": str(found.python)} if found.python else {}), **found.runtimes}
    lock = _lock_of(libraries_of(found), _runtimes(told, found.inventory.implementation))
    return ComparedState(name=named, lock=lock, installed=True)


def _collected(label: str, session: Session) -> MachineInventory:
    """The newest collected inventory of a machine. Raises `WrongUsage` without any, `NotUnderstood`."""
    found = machines_by_label(session)
    if label not in found:
        near = near_names(label, found)
        raise WrongUsage(
            f"no inventory of a machine '{label}' was collected",
            because=[f"known are: {', '.join(sorted(found)[:_SHOWN]) or 'none'}"],
            remedy=f"rabbet compare {quoted(f'machine:{near[0]}')}" if near else "rabbet census collect",
        )
    return found[label]


def _of_inventory(named: str, inventory: Inventory) -> ComparedState:
    """The installed libraries with the names of their dependencies."""
    libraries = (_as_locked(library) for _, library in sorted(inventory.libraries.items()))
    told = {} if inventory.python == _ANY_PYTHON else {"python": str(inventory.python)}
    return ComparedState(
        name=named, lock=_lock_of(libraries, _runtimes(told, inventory.implementation)), installed=True
    )


def _runtimes(told: Mapping[str, str], implementation: str) -> tuple[LockedRuntime, ...]:
    """Runtimes by their languages, as a lock would hold them; of one without a version nothing is known."""
    found = []
    for language, text in told.items():
        with suppress(InvalidVersion):
            distributor = implementation if language == "python" else ""
            found.append(LockedRuntime(language=language, version=Version(text), distributor=distributor))
    return tuple(found)


def _lock_of(libraries: Iterable[LockedLibrary], runtimes: tuple[LockedRuntime, ...]) -> Lock:
    """Installed libraries in the form of a lock."""
    return Lock(
        requires_python=None,
        environments=(),
        groups=(),
        libraries=tuple(libraries),
        fingerprint=None,
        runtimes=runtimes,
    )


def _as_locked(installed: Installed) -> LockedLibrary:
    needs = installed.metadata.needs if installed.metadata else ()
    return LockedLibrary(
        name=installed.name,
        version=installed.version,
        dependencies=tuple(sorted({need.name for need in needs} - {installed.name})),
    )


def _of_revision(session: Session, named: str, revision: str) -> ComparedState:
    environ, file = session.machine.helpers_environ(), session.project.lock_file.name
    lock = file_at(session.project.folder, revision, file, environ)
    if lock is None:
        session.refuse_unknown_variant()
        raise NoLock(
            f"there is no {file} at the revision '{revision}'", remedy=f"git log --oneline -- {file}"
        )
    text = file_at(session.project.folder, revision, DECLARATION, environ)
    read = read_lock(lock, f"{file} at {revision}", remedies=False)
    declaration = _declaration(text, session.project.folder.name, session.project.variant, read.told)
    return ComparedState(name=named, lock=read, declaration=declaration)


def _of_file(project: Project, path: Path, named: str, content: str) -> ComparedState:
    """A lock file, with the declaration that lies beside it; a copy in the project has none of its own."""
    beside = path.parent / DECLARATION
    belongs = (
        path.resolve() == project.lock_file.resolve() or path.parent.resolve() != project.folder.resolve()
    )
    text = read_text(beside) if belongs and beside.is_file() else None
    name = path.name if path.name == named or Path(named).is_absolute() else named
    lock = read_lock(content, named, remedies=path == project.lock_file)
    declaration = _declaration(text, path.parent.name, project.variant, lock.told)
    return ComparedState(name=name, lock=lock, declaration=declaration)


def _declaration(
    text: str | None, folder_name: str, variant: str | None, told: Told | None
) -> Declaration | None:
    """An old declaration that can't be read only means that no causes can be told."""
    if text is None:
        return None
    try:
        whole = read_declaration(text, folder_name=folder_name, has_setup=told is not None, told=told)
    except RabbetError:
        return None
    return whole.varied(variant) if variant and variant in whole.variants else whole
