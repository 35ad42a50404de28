"""What is installed in an environment, read from its files alone: nothing of it is run or imported."""

import hashlib
import os
from collections.abc import Iterator, Sequence
from collections.abc import Set as AbstractSet
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import InvalidVersion, Version

from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.release import Metadata
from rabbet.environment.journal import unfinished_libraries
from rabbet.environment.layout import CONFIGURATION
from rabbet.environment.signature import signature_of_files
from rabbet.environment.stamp import Stamp, read_stamp
from rabbet.errors import EnvironmentFailed
from rabbet.formats.metadata import MetadataBroken, parse_metadata
from rabbet.formats.record import RecordRow, read_record

__all__ = ["Configuration", "read_configuration", "take_inventory"]

_THREADS = 4
_METADATA_NAMES = {".dist-info": "METADATA", ".egg-info": "PKG-INFO"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Configuration:
    """What `pyvenv.cfg` says: the version and implementation, and where libraries lie."""

    python: Version
    implementation: str
    site_packages: str


def read_configuration(root: Path) -> Configuration:
    """Read an environment's own description. Raises `EnvironmentFailed` where there is none."""
    if not root.exists():
        raise EnvironmentFailed(f"there is no environment in {root}", remedy="rabbet recreate")
    try:
        lines = (root / CONFIGURATION).read_text(encoding="utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        raise EnvironmentFailed(
            f"{root} is no environment", because=[str(error)], remedy="rabbet recreate"
        ) from error
    values = {key.strip().lower(): value.strip() for key, _, value in (line.partition("=") for line in lines)}
    try:
        version = Version(values.get("version") or values["version_info"])
        site = next(root.glob("lib/*/site-packages"))
    except (KeyError, InvalidVersion, StopIteration) as error:
        raise EnvironmentFailed(
            f"the environment in {root} is damaged",
            because=[f"its version or its site-packages folder can't be found ({type(error).__name__})"],
            remedy="rabbet recreate",
        ) from error
    return Configuration(
        python=version,
        implementation=values.get("implementation", "cpython").lower(),
        site_packages=str(site.relative_to(root)),
    )


def take_inventory(root: Path, *, thorough: bool) -> Inventory:
    """List all installed libraries and which of their files were altered.

    A thorough look reads every file; the other one reads none of a library whose files have the sizes and the
    times that they had when Rabbet installed them.

    Raises `EnvironmentFailed` when there is no environment.
    """
    configuration = read_configuration(root)
    site = root / configuration.site_packages
    look = _Look(site, read_stamp(root), unfinished_libraries(root), thorough=thorough)
    folders = sorted(path for path in site.iterdir() if path.suffix in (".dist-info", ".egg-info"))
    with ThreadPoolExecutor(_THREADS) as pool:
        found = [one for one in pool.map(look.at, folders) if one is not None]
    libraries: dict[NormalizedName, Installed] = {}
    twins = [one for one in found if libraries.setdefault(one.name, one) is not one]
    return Inventory(
        python=configuration.python,
        implementation=configuration.implementation,
        libraries=libraries,
        twins=tuple(twins),
    )


class _Look:
    """Looks at one library after the other."""

    def __init__(
        self, site: Path, stamp: Stamp | None, unfinished: AbstractSet[str], *, thorough: bool
    ) -> None:
        self._site = site
        self._stamp = stamp
        self._unfinished = unfinished
        self._thorough = thorough

    def at(self, folder: Path) -> Installed | None:
        """What is known of the library in a `.dist-info` (or `.egg-info`) folder."""
        metadata = _metadata(folder)
        identity = _identity(folder, metadata)
        if identity is None:
            return None
        name, version = identity
        record = b""
        with suppress(OSError):
            record = (folder / "RECORD").read_bytes()
        origin = self._stamp.libraries.get(name) if self._stamp else None
        ours = origin is not None and origin.record == hashlib.sha256(record).hexdigest()
        state = origin.state if ours and origin and not self._thorough else ""
        altered = list(self._altered(record, state)) if record else []
        if origin is not None and not ours:
            altered.insert(0, f"{folder.name}/RECORD")
        return Installed(
            name=name,
            version=version,
            folder=folder.name,
            metadata=metadata,
            wheel_sha256=origin.wheel if ours and origin else None,
            altered=tuple(altered),
            unfinished=name in self._unfinished,
        )

    def _altered(self, record: bytes, known: str) -> Iterator[str]:
        """Find the recorded files that are gone or of other content.

        None of them is read if their signature is the one that is known.
        """
        try:
            rows = read_record(record.decode("utf-8"))
        except ValueError:
            yield "RECORD"
            return
        recorded = [row for row in rows if row.sha256 is not None]
        if not known or self._signature(recorded) != known:
            yield from (row.path for row in recorded if not self._as_recorded(row))

    def _signature(self, recorded: Sequence[RecordRow]) -> str:
        """The present signature of recorded files, empty if one is gone."""
        try:
            found = [(row.path, os.stat(f"{self._site}/{row.path}")) for row in recorded]  # noqa: PTH116 - thousands
        except OSError:
            return ""
        return signature_of_files((path, state.st_size, state.st_mtime_ns) for path, state in found)

    def _as_recorded(self, row: RecordRow) -> bool:
        path = self._site / row.path
        try:
            if row.size is not None and path.stat().st_size != row.size:
                return False
            with path.open("rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest() == row.sha256
        except OSError:
            return False


def _metadata(folder: Path) -> Metadata | None:
    file = folder if folder.is_file() else folder / _METADATA_NAMES[folder.suffix]
    try:
        return parse_metadata(file.read_bytes())
    except (OSError, MetadataBroken):
        return None


def _identity(folder: Path, metadata: Metadata | None) -> tuple[NormalizedName, Version] | None:
    """Name and version, from the folder's name where the metadata is gone."""
    if metadata is not None:
        return metadata.name, metadata.version
    name, _, version = folder.stem.partition("-")
    try:
        return canonicalize_name(name), Version(version.partition("-")[0])
    except ValueError:
        return None
