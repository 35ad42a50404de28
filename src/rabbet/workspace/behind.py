"""Whether a lock is up to date with the declaration."""

from rabbet.formats.pylock import edited_by_hand
from rabbet.workspace.project import Project

__all__ = ["behind"]


def behind(project: Project) -> str:
    """Why the lock is not up to date, as far as the two files tell; empty if nothing speaks against it.

    Raises `NoLock`, `NotUnderstood`.
    """
    lock = project.lock()
    if lock.fingerprint != project.declaration().fingerprint():
        return "the declaration changed since it was made"
    edited = edited_by_hand(lock)
    return f"it was edited by hand ({', '.join(edited)})" if edited else ""
