"""An entry of the declaration → the source that it names."""

from collections.abc import Callable
from pathlib import Path

from rabbet.core.declaration.model import SourceEntry
from rabbet.disk.named import path_named
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import is_address, parse_address
from rabbet.net.http.client import HttpClient
from rabbet.net.local_file import local_path
from rabbet.python.sources.base import Memory, Source
from rabbet.python.sources.files.file_reader import FileReader
from rabbet.python.sources.kinds.folder import FolderSource
from rabbet.python.sources.kinds.index import IndexSource
from rabbet.python.sources.kinds.mirrors import MirroredSource
from rabbet.python.sources.kinds.pages import Pages
from rabbet.python.sources.kinds.static_pages import StaticPagesSource, holds_pages

__all__ = ["open_source", "unsupported"]


def open_source(
    entry: SourceEntry,
    *,
    project: Path,
    client: HttpClient,
    memory_of: Callable[[str], Memory],
    refresh: bool = False,
) -> Source:
    """Open an index (`http`, `https`) or a folder (a path, relative to the project, or a `file` address).

    A folder holds files, or pages as an index would serve them. `memory_of` an index, by its address, keeps
    its listings, those of each mirror apart; `refresh`: fresh ones are asked for too.

    Raises `SourceFailed` for an address of another kind.
    """
    scheme = parse_address(entry.url).scheme if is_address(entry.url) else "file"
    if scheme in ("http", "https"):
        places = [
            IndexSource(
                entry.name, address, client, Pages(memory_of(address), entry.fresh_for), refresh=refresh
            )
            for address in (parse_address(url).text for url in (entry.url, *entry.mirrors))
        ]
        return MirroredSource(places) if entry.mirrors else places[0]
    if scheme != "file":
        raise unsupported(entry.name, scheme)
    folder = local_path(entry.url) or path_named(entry.url, project)
    if holds_pages(folder):
        return StaticPagesSource(entry.name, folder, FileReader(client))
    return FolderSource(entry.name, folder, entry.url, FileReader(client))


def unsupported(name: str, scheme: str) -> SourceFailed:
    """The failure of a source whose address is of a kind that nothing can be taken from."""
    return SourceFailed(
        f"the source '{name}' has an unsupported address",
        because=[f"{scheme}: is not one of http, https, file or a folder's path"],
    )
