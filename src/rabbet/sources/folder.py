"""A plain folder of wheels as a source."""

import hashlib
from collections import defaultdict
from collections.abc import Sequence
from functools import cached_property
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedWheel
from rabbet.core.model.release import Listing, WheelFile
from rabbet.core.wheel_name import parse_wheel_name
from rabbet.errors import SourceFailed
from rabbet.sources.wheel_metadata import metadata_in

__all__ = ["FolderSource"]


class FolderSource:
    """A folder on this machine. `declared` is how the declaration names it, and so will the lock."""

    index: str | None = None

    def __init__(self, name: str, folder: Path, declared: str) -> None:
        self.name = name
        self._folder = folder
        self._declared = declared

    def listing(self, name: NormalizedName) -> Listing | None:
        """All wheels of a library in the folder."""
        wheels = self._wheels.get(name)
        return Listing(name=name, source=self.name, wheels=tuple(wheels)) if wheels else None

    def metadata(self, wheel: WheelFile) -> bytes:
        """Read from the archive."""
        try:
            with Path(wheel.location).open("rb") as file:
                return metadata_in(file)
        except OSError as error:
            raise _unreadable(self.name, error) from error

    def locked(self, wheel: WheelFile) -> LockedWheel:
        """Hash and size come from the file; its path is absolute only if the declaration's is."""
        try:
            with Path(wheel.location).open("rb") as file:
                sha256 = hashlib.file_digest(file, "sha256").hexdigest()
                size = file.tell()
        except OSError as error:
            raise _unreadable(self.name, error) from error
        place = f"{self._declared.rstrip('/')}/{wheel.filename}"
        if self._declared.startswith("file://"):
            return LockedWheel(filename=wheel.filename, sha256=sha256, size=size, url=place)
        return LockedWheel(filename=wheel.filename, sha256=sha256, size=size, path=place)

    def names(self) -> Sequence[str]:
        """All libraries that have a wheel here."""
        return sorted(self._wheels)

    @cached_property
    def _wheels(self) -> dict[NormalizedName, list[WheelFile]]:
        found: defaultdict[NormalizedName, list[WheelFile]] = defaultdict(list)
        try:
            paths = sorted(self._folder.glob("*.whl")) if self._folder.is_dir() else None
        except OSError as error:
            raise _unreadable(self.name, error) from error
        if paths is None:
            raise SourceFailed(
                f"the source '{self.name}' is not there",
                because=[f"{self._declared} is no folder on this machine"],
                remedy="correct its url under [[tool.rabbet.sources]] in pyproject.toml",
            )
        for path in paths:
            parsed = parse_wheel_name(path.name)
            if isinstance(parsed, str):
                continue
            found[parsed.name].append(WheelFile.named(parsed, path.name, str(path), self.name))
        return dict(found)


def _unreadable(name: str, error: OSError) -> SourceFailed:
    return SourceFailed(f"the source '{name}' can't be read", because=[str(error)])
