"""What a project's build told, by the project's locks; it is asked anew when files that it read change."""

from msgspec.structs import replace

from rabbet.builds.folder_state import needs_state
from rabbet.core.model.build import Told
from rabbet.disk.regular_file import is_there
from rabbet.formats.told import told_in
from rabbet.workspace.project import LOCK, Project, read_text

__all__ = ["is_told_anew", "noted_told"]


def noted_told(project: Project) -> Told | None:
    """What was told, with the state that the files have now: what follows from another one is out of date.

    Raises `NotUnderstood` for a lock that can't be read.
    """
    told = _in_locks(project)
    return replace(told, state=needs_state(str(project.folder))) if told else None


def is_told_anew(project: Project) -> bool:
    """Whether the build has to be asked, for nothing was told yet, or its files changed since."""
    told = _in_locks(project)
    return told is None or told.state != needs_state(str(project.folder))


def _in_locks(project: Project) -> Told | None:
    """What the project's own lock holds of it, else that of a variant."""
    for path in (project.folder / LOCK, project.lock_file):
        told = told_in(read_text(path), path.name) if is_there(path) else None
        if told is not None:
            return told
    return None
