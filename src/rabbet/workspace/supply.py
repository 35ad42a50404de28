"""What composing an environment needs of a project: its wheels, and what its declaration says of them."""

from functools import partial
from typing import TYPE_CHECKING

from rabbet.compose.fetch import Supply
from rabbet.compose.wheels import Intent
from rabbet.core.corrections import corrected
from rabbet.core.progress import Observer
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project

if TYPE_CHECKING:
    from rabbet.sources.http import HttpClient

__all__ = ["intent_of", "supply_for"]


def supply_for(project: Project, machine: Machine, observer: Observer) -> Supply:
    """The machine's store, and a client that knows the credentials for the project's sources."""

    def client() -> "HttpClient":
        from rabbet.workspace.sources import open_client  # here: mostly nothing has to be fetched

        return open_client(project.declaration(), machine)

    return Supply(store=machine.store, folder=project.folder, open_client=client, observer=observer)


def intent_of(project: Project, *, own_lock: bool) -> Intent:
    """What the declaration names, and how it corrects wheels, if the lock is Rabbet's own."""
    declaration = project.declaration()
    return Intent(
        requested={one.need.name for one in declaration.declared()},
        correct=partial(corrected, declaration=declaration) if own_lock else None,
    )
