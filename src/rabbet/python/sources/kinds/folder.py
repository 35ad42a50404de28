"""A plain folder of wheels and source archives as a source."""

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedSdist, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.errors import SourceFailed
from rabbet.python.choosing.file_name import BadFileName, listed_file, parse_file_name
from rabbet.python.sources.files.file_reader import FileReader

__all__ = ["FolderSource"]


class FolderSource:
    """A folder on this machine. `declared` is how the declaration names it, and so will the lock."""

    index: str | None = None

    def __init__(self, name: str, folder: Path, declared: str, reader: FileReader) -> None:
        self.name = name
        self._folder = folder
        self._declared = declared
        self._reader = reader

    def listing(self, name: NormalizedName) -> Listing | None:
        """All files of a library in the folder."""
        files = self._files.get(name)
        return Listing(name=name, source=self.name, files=tuple(files)) if files else None

    def metadata(self, file: ListedFile) -> bytes:
        """Read from the archive."""
        return self._reader.metadata(file)

    def locked(self, file: ListedFile) -> LockedWheel | LockedSdist:
        """Hash and size come from the file; its path is absolute only if the declaration's is."""
        locked = self._reader.locked(file)
        place = f"{self._declared.rstrip('/')}/{file.filename}"
        if self._declared.startswith("file://"):
            return replace(locked, url=place)
        return replace(locked, url=None, path=place)

    def names(self) -> Sequence[str]:
        """All libraries that have a file here."""
        return sorted(self._files)

    @cached_property
    def _files(self) -> dict[NormalizedName, list[ListedFile]]:
        found: dict[NormalizedName, list[ListedFile]] = {}
        for path in self._paths():
            try:
                parsed = parse_file_name(path.name)
            except BadFileName:
                continue
            file = listed_file(parsed, path.name, path.absolute().as_uri(), self.name)
            found.setdefault(parsed.name, []).append(file)
        return found

    def _paths(self) -> list[Path]:
        try:
            if self._folder.is_dir():
                paths = sorted(self._folder.iterdir())
                return [path for path in paths if path.name.endswith((".whl", ".tar.gz", ".zip"))]
        except OSError as error:
            raise SourceFailed(f"the source '{self.name}' can't be read", because=[str(error)]) from error
        raise SourceFailed(
            f"the source '{self.name}' is not there",
            because=[f"{self._declared} is not a folder on this machine"],
            note="correct its url under [[tool.rabbet.sources]] in pyproject.toml",
        )
