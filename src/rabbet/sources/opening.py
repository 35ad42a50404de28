"""An entry of the declaration → the source that it names."""

from pathlib import Path
from urllib.parse import urlsplit

from rabbet.core.model.declaration import SourceEntry
from rabbet.errors import SourceFailed
from rabbet.sources.base import Source
from rabbet.sources.file_reader import FileReader
from rabbet.sources.folder import FolderSource
from rabbet.sources.http import HttpClient
from rabbet.sources.index import IndexSource
from rabbet.sources.local_file import local_path
from rabbet.sources.pages import PageMemory
from rabbet.sources.static_pages import StaticPagesSource, holds_pages

__all__ = ["open_source"]


def open_source(entry: SourceEntry, *, project: Path, client: HttpClient, memory: PageMemory) -> Source:
    """Open an index (`http`, `https`) or a folder (a path, relative to the project, or a `file` address).

    A folder holds files, or pages as an index would serve them. `memory` keeps the listings of indexes.

    Raises `SourceFailed` for an address of another kind.
    """
    scheme = urlsplit(entry.url).scheme.lower()
    if scheme in ("http", "https"):
        return IndexSource(entry.name, entry.url, client, memory)
    if len(scheme) > 1 and scheme != "file":
        raise SourceFailed(
            f"the source '{entry.name}' has an address of an unknown kind",
            because=[f"{scheme}: is none of http, https, file or a folder's path"],
        )
    folder = local_path(entry.url) or project / Path(entry.url).expanduser()
    if holds_pages(folder):
        return StaticPagesSource(entry.name, folder, FileReader(client))
    return FolderSource(entry.name, folder, entry.url, FileReader(client))
