"""What differs between two locks: files, or revisions in git."""

from dataclasses import dataclass
from pathlib import Path

from rabbet.core.lock.differences import DeclaredChange, Difference, declared_changes, differences
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock
from rabbet.errors import NoLock, RabbetError
from rabbet.formats.pylock import read_lock
from rabbet.formats.pyproject import read_declaration
from rabbet.git.revisions import file_at
from rabbet.tasks.explain import remembered_needs
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import DECLARATION, Project, read_text

__all__ = ["Compared", "compare"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """The changes of the declaration, as far as both are known, and what differs between the locks."""

    old: str
    new: str
    declared: tuple[DeclaredChange, ...]
    differences: tuple[Difference, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Side:
    name: str
    lock: Lock
    declaration: Declaration | None


def compare(project: Project, machine: Machine, old: str, new: str | None) -> Compared:
    """Compare two sides, each a lock file or a revision; without `new`, the project's present lock.

    Raises `NoLock`, `NotUnderstood`, `SourceFailed`.
    """
    before = _side(project, machine, old)
    after = _side(project, machine, new if new is not None else str(project.lock_file))
    present = after.declaration or project.declaration()
    needs = remembered_needs(machine.store.metadata, present)
    declared = declared_changes(before.declaration, after.declaration)
    return Compared(
        old=before.name,
        new=after.name,
        declared=declared,
        differences=differences(before.lock, after.lock, declared, needs, present),
    )


def _side(project: Project, machine: Machine, named: str) -> _Side:
    path = machine.folder / named
    if path.is_file():
        return _file(project, path, named)
    if path == project.lock_file:
        project.lock()
    environ = machine.helpers_environ()
    file = project.lock_file.name
    lock = file_at(project.folder, named, file, environ)
    if lock is None:
        raise NoLock(f"there is no {file} at the revision '{named}'", remedy=f"git log --oneline -- {file}")
    declaration = file_at(project.folder, named, DECLARATION, environ)
    return _Side(
        name=named,
        lock=read_lock(lock, f"{file} at {named}"),
        declaration=_declaration(declaration, project.folder.name, project.variant),
    )


def _file(project: Project, path: Path, named: str) -> _Side:
    """A lock file, with the declaration that lies beside it; a copy in the project has none of its own."""
    beside = path.parent / DECLARATION
    belongs = (
        path.resolve() == project.lock_file.resolve() or path.parent.resolve() != project.folder.resolve()
    )
    text = read_text(beside) if belongs and beside.is_file() else None
    name = path.name if path.name == named or Path(named).is_absolute() else named
    return _Side(
        name=name,
        lock=read_lock(read_text(path), named),
        declaration=_declaration(text, path.parent.name, project.variant),
    )


def _declaration(text: str | None, folder_name: str, variant: str | None) -> Declaration | None:
    """An old declaration that can't be read only means that no causes can be told."""
    try:
        whole = None if text is None else read_declaration(text, folder_name=folder_name)
    except RabbetError:
        return None
    return whole.varied(variant) if whole and variant and variant in whole.variants else whole
