"""A project's sources, opened for one target."""

from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.sources.catalogue import Catalogue
from rabbet.sources.direct import DirectSource, direct_addresses
from rabbet.sources.opening import open_source
from rabbet.tasks.machine import Machine
from rabbet.tasks.network import open_client
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.settings import known_sources

__all__ = ["open_catalogue"]


def open_catalogue(
    project: Project,
    machine: Machine,
    target: Target,
    policy: Policy,
    observer: Observer,
    *,
    always: bool = False,
) -> Catalogue:
    """All sources of a project; it needs none if it declares no library, unless asked for one `always`.

    Raises `SourceFailed`.
    """
    declaration = project.declaration()
    client = open_client(declaration, machine)
    requirements = [one.requirement for one in declaration.declared()]
    direct = DirectSource(direct_addresses(requirements), client)
    entries = known_sources(declaration, machine) if requirements or always else ()
    store = machine.store()
    opened = [
        (open_source(entry, project=project.folder, client=client, memory=store.listings), entry.only)
        for entry in entries
    ]
    return Catalogue(
        [(direct, ()), *opened],
        target,
        store.metadata,
        preferred=policy.preferred,
        reading=observer.step,
        as_of=policy.as_of,
    )
