"""A project's sources, opened once for a command, and asked for one target after the other."""

from dataclasses import dataclass

from rabbet.core.model.declaration import Declaration
from rabbet.core.model.target import Target
from rabbet.core.solve.policy import Policy
from rabbet.sources.base import Source
from rabbet.sources.catalogue import Catalogue
from rabbet.sources.direct import DirectSource, direct_addresses
from rabbet.sources.http import HttpClient
from rabbet.sources.opening import open_source
from rabbet.store.memory import Memory
from rabbet.tasks.machine import Machine
from rabbet.tasks.network import open_client
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.settings import known_sources

__all__ = ["Sources", "open_sources"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Sources:
    """The sources in their order, each with the names it claims; what they read is read once."""

    opened: tuple[tuple[Source, tuple[str, ...]], ...]
    client: HttpClient
    metadata: Memory

    def catalogue(
        self, declaration: Declaration, target: Target, policy: Policy, observer: Observer
    ) -> Catalogue:
        """All of them for one target, and the addresses that the declaration itself names."""
        requirements = [one.requirement for one in declaration.declared()]
        direct = DirectSource(direct_addresses(requirements), self.client)
        return Catalogue(
            [(direct, ()), *self.opened],
            target,
            self.metadata,
            preferred=policy.preferred,
            reading=observer.step,
            as_of=policy.as_of,
        )


def open_sources(
    project: Project, machine: Machine, declaration: Declaration, *, always: bool = False
) -> Sources:
    """Open a project's sources; it needs none if it declares no library, unless asked for one `always`.

    Raises `SourceFailed`.
    """
    client = open_client(declaration, machine)
    store = machine.store()
    all_ = (declaration, *(declaration.varied(name) for name in declaration.variants))
    wanted = always or any(True for one in all_ for _ in one.declared())
    opened = [
        (open_source(entry, project=project.folder, client=client, memory=store.listings), entry.only)
        for entry in (known_sources(declaration, machine) if wanted else ())
    ]
    return Sources(opened=tuple(opened), client=client, metadata=store.metadata)
