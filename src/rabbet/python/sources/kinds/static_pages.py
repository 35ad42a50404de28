"""A folder of pages as a source: an index (PEP 503) written down as files, `NAME/index.html` each."""

from collections.abc import Sequence
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_PAGE
from rabbet.core.model.lock import LockedSdist, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.needs.names import library_name
from rabbet.disk.regular_file import read_regular
from rabbet.errors import SourceFailed
from rabbet.python.formats.simple_index import NotAnIndexPage, parse_html
from rabbet.python.sources.files.file_reader import FileReader

__all__ = ["StaticPagesSource", "holds_pages"]

_PAGE = "index.html"


def holds_pages(folder: Path) -> bool:
    """Whether a folder holds pages rather than files to install."""
    return next(folder.glob(f"*/{_PAGE}"), None) is not None


class StaticPagesSource:
    """The pages below a folder of this machine; their links may lead anywhere."""

    index: str | None = None

    def __init__(self, name: str, folder: Path, reader: FileReader) -> None:
        self.name = name
        self._folder = folder
        self._reader = reader

    def listing(self, name: NormalizedName) -> Listing | None:
        """The listing on the library's page. Raises `SourceFailed`."""
        path = self._pages().get(name)
        if path is None:
            return None
        try:
            return parse_html(
                read_regular(path, most=MOST_PAGE),
                name=name,
                source=self.name,
                address=path.absolute().as_uri(),
            )
        except (OSError, NotAnIndexPage) as error:
            raise SourceFailed(
                f"a page of the source '{self.name}' can't be read", because=[f"{path}: {error}"]
            ) from error

    def metadata(self, file: ListedFile) -> bytes:
        """Read from the file."""
        return self._reader.metadata(file)

    def locked(self, file: ListedFile) -> LockedWheel | LockedSdist:
        """Hash and size as listed, else from the file."""
        return self._reader.locked(file)

    def names(self) -> Sequence[str]:
        """All libraries that have a page."""
        return sorted(self._pages())

    def _pages(self) -> dict[NormalizedName, Path]:
        return {library_name(path.parent.name): path for path in self._folder.glob(f"*/{_PAGE}")}
