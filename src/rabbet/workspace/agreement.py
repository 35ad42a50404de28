"""Whether the user agreed that a project's own build runs here: it may have come with a clone.

At a terminal that is asked once for a folder and a back end. A script that resolves or recreates a project
with a build has said so.
"""

from hashlib import sha256

from rabbet.core.model.build import BuildSystem
from rabbet.errors import NotAgreed
from rabbet.store.blob_cache import BlobCache
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = ["agree_to_build", "refuse_without_agreement"]


def refuse_without_agreement(session: Session) -> None:
    """Raise `NotAgreed` where somebody can be asked, and has not agreed to this build yet."""
    system = session.declaration().build_system
    if system is None or not session.machine.attended:
        return
    if _notes(session.machine).recall(_key(session.project, system)) is not None:
        return
    where = f", which comes with it in '{', '.join(system.backend_path)}'" if system.backend_path else ""
    raise NotAgreed(
        "the project's own build runs only with your agreement",
        because=[f"its back end is {system.backend}{where}", "it would run here, as you"],
    )


def agree_to_build(session: Session) -> None:
    """Note that this project's build may run with its present back end."""
    system = session.declaration().build_system
    if system is not None:
        _notes(session.machine).remember(_key(session.project, system), b"agreed")


def _notes(machine: Machine) -> BlobCache:
    return BlobCache(machine.environments().folder / "own-builds")


def _key(project: Project, system: BuildSystem) -> str:
    parts = [str(project.folder.resolve()), system.backend, *system.backend_path]
    return sha256("\0".join(parts).encode(errors="surrogateescape")).hexdigest()
