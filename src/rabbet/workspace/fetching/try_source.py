"""Ask a source that a user names, before it is declared."""

from collections.abc import Sequence

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.python.sources.opening import open_source
from rabbet.workspace.fetching.opening import open_client
from rabbet.workspace.machine import Machine

__all__ = ["TriedSource", "tried_source"]


class TriedSource(Struct, frozen=True):
    """The number of libraries that a source lists (0: it does not tell), and those that it does not know."""

    listed: int
    unknown: tuple[NormalizedName, ...]


def tried_source(machine: Machine, address: str, wanted: Sequence[NormalizedName]) -> TriedSource:
    """Ask a source for its names, and for the libraries that are wanted.

    A folder's path is relative to the current folder. Raises `SourceFailed` where it is no source.
    """
    entry = SourceEntry(name="main", url=address)
    declaration = Declaration(name="project", python=SpecifierSet(), needs=(), groups={}, sources=(entry,))
    client = open_client(declaration, machine)
    source = open_source(entry, project=machine.folder, client=client, memory_of=machine.listings)
    names = source.names()
    return TriedSource(len(names), tuple(name for name in wanted if source.listing(name) is None))
