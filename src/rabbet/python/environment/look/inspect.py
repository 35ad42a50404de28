"""Installed libraries of an environment, read from files alone: none of its code is run."""

import hashlib
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import TypeAlias

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.limits import LONGEST_LINE, MOST_METADATA, MOST_TEXT_FILE
from rabbet.core.model.cause import Installation, ReasonWith
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Selection
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import is_name, library_name
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed
from rabbet.python.code.module_names import is_start_up
from rabbet.python.environment.look.examine import Begin, Reading, RecordedLibrary, examine, unobserved
from rabbet.python.environment.look.known_files import KnownFiles
from rabbet.python.environment.place.configuration import Configuration, read_configuration
from rabbet.python.environment.place.install_state import InstallState
from rabbet.python.environment.place.journal import unfinished_libraries
from rabbet.python.environment.place.layout import INSTALLER, Layout
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, read_direct_url
from rabbet.python.formats.record import RecordRow, read_record

__all__ = ["Vouched", "inventory_of", "take_inventory"]

Vouched: TypeAlias = Mapping[NormalizedName, Mapping[str, RecordRow]]
"""The expected rows of libraries' files, by their places in the environment."""

_METADATA_NAMES = {".dist-info": "METADATA", ".egg-info": "PKG-INFO"}


def take_inventory(
    root: Path,
    install_state: InstallState | None,
    *,
    sound: bool = False,
    begin: Begin = unobserved,
    vouched: Vouched | None = None,
    known: KnownFiles | None = None,
) -> Inventory:
    """List all installed libraries, what was altered of them, and what nobody put there.

    `install_state` is Rabbet's note of an environment that it made on this machine. Without it only the
    libraries' own records count. `sound`: the files have not changed since they were last read, so none is
    read again. `begin` reports progress. `vouched` digests replace those that libraries recorded. Files that
    are `known` are not read again.

    Raises `EnvironmentFailed` when there is no environment.
    """
    configuration = read_configuration(root)
    layout = Layout(root=root, site_packages=configuration.site_packages)
    reading = Reading(begin, known)
    return inventory_of(layout, configuration, reading, install_state, sound=sound, vouched=vouched)


def inventory_of(
    layout: Layout,
    configuration: Configuration,
    reading: Reading | None = None,
    install_state: InstallState | None = None,
    *,
    sound: bool = False,
    vouched: Vouched | None = None,
) -> Inventory:
    """The same of the libraries in one folder, where the runtime is known. Raises `EnvironmentFailed`."""
    unfinished = unfinished_libraries(layout.root)
    looked = (
        _recorded(folder, layout, install_state, vouched or {}, sound=sound)
        for folder in _info_folders(layout)
    )
    found = [recorded for recorded in looked if recorded is not None]
    noted = install_state.libraries if install_state else {}
    strays: tuple[str, ...] = ()
    damage: tuple[ReasonWith, ...] = ()
    if not sound:
        found, strays, damage = examine(layout, found, install_state, reading or Reading())
    libraries: dict[NormalizedName, Installed] = {}
    twins = []
    for recorded in found:
        library = replace(recorded.library, unfinished=recorded.library.name in unfinished)
        if libraries.setdefault(library.name, library) is not library:
            twins.append(library)
    return Inventory(
        python=configuration.python,
        implementation=configuration.implementation,
        libraries=libraries,
        twins=tuple(twins),
        strays=strays,
        damage=damage,
        made_with=install_state.executable if install_state else "",
        runtimes=install_state.runtimes if install_state else {},
        put_there=frozenset(NormalizedName(name) for name in noted) - unfinished,
        selection=_selection(install_state),
        lock_stamp=install_state.lock if install_state else "",
    )


def _selection(install_state: InstallState | None) -> Selection | None:
    """The groups and extras that an environment was made for, if not for all."""
    if install_state is None or install_state.groups is None or install_state.extras is None:
        return None
    return Selection(frozenset(install_state.groups), frozenset(install_state.extras))


def _info_folders(layout: Layout) -> list[Path]:
    """The folders (of old installers: the files) that tell of a library each."""
    try:
        return sorted(path for path in layout.site.iterdir() if path.suffix in _METADATA_NAMES)
    except OSError as error:
        raise EnvironmentFailed(
            f"the libraries in {layout.site} can't be read", because=[error.strerror or str(error)]
        ) from error


def _recorded(
    folder: Path, layout: Layout, install_state: InstallState | None, vouched: Vouched, *, sound: bool
) -> RecordedLibrary | None:
    """A library with its own record; where that is not the one that Rabbet wrote, it was altered.

    Unless its files say that another installer put it there. The rows of what Rabbet installed are left out
    where no file will be read. What is vouched for counts in place of them; of another installer's it is what
    all of them leave as it is.
    """
    metadata = _metadata(folder)
    identity = _identity(folder, metadata)
    if identity is None:
        return None
    name, version = identity
    record, wrong = None, []
    with suppress(OSError):
        record = read_regular(folder / "RECORD", most=MOST_TEXT_FILE)
    origin = install_state.libraries.get(name) if install_state else None
    if origin is not None and origin.info not in ("", folder.name):
        origin = None
    ours = origin is not None and origin.record == hashlib.sha256(record or b"").hexdigest()
    try:
        left_out = sound and (ours or install_state is None)
        left_out = left_out or (ours and name in vouched)
        rows = () if left_out else read_record((record or b"").decode("utf-8"))
    except ValueError:
        rows, wrong = (), [f"{folder.name}/RECORD"]
    installation = None if ours else _installation(folder)
    replaced = installation is not None and installation.installer not in ("", INSTALLER)
    if origin is not None and not (ours or replaced):
        wrong = [f"{folder.name}/RECORD"]
    library = Installed(
        name=name,
        version=version,
        folder=folder.name,
        metadata=metadata,
        wheel_sha256=origin.wheel if ours and origin else None,
        build=origin.build if ours and origin else "",
        tags=frozenset() if ours else _tags(folder),
        recorded=record is not None,
        altered=tuple(wrong),
        installation=installation,
        start_up=() if ours else tuple(row.path for row in rows if is_start_up(row.path)),
    )
    places = ((layout.recorded(row.path, folder.name), row) for row in rows)
    claimed = _claimed(folder) if record is None else frozenset()
    known = {place: row for place, row in places if place is not None}
    sure = vouched.get(name, {})
    if replaced:
        sure = {place: row for place, row in sure.items() if layout.stays_as_in_wheel(place, folder.name)}
    return RecordedLibrary(library, {**known, **sure}, claimed)


def _claimed(folder: Path) -> frozenset[str]:
    """The modules that a library without a record says are its own, as old installers noted them."""
    name = folder.stem.partition("-")[0].lower()
    return frozenset({name, *_text(folder / "top_level.txt").split()})


def _tags(folder: Path) -> frozenset[str]:
    """The tags of the wheel that a library was made from (PEP 427, `WHEEL`)."""
    lines = (line.partition(":") for line in _text(folder / "WHEEL").splitlines())
    return frozenset(value.strip() for key, _, value in lines if key.strip().lower() == "tag")


def _text(file: Path) -> str:
    """A small file of a library; empty where there is none that can be read."""
    try:
        return read_regular(file, most=MOST_METADATA).decode("utf-8", "replace")
    except OSError:
        return ""


def _installation(folder: Path) -> Installation:
    """How a library was installed, by the files that installers leave (PEP 376, 610, 627)."""
    origin, since = "", None
    with suppress(ValueError):
        origin = read_direct_url(_text(folder / "direct_url.json"))
    with suppress(OSError):
        since = folder.stat().st_mtime
    return Installation(
        installer=_text(folder / "INSTALLER").strip()[:LONGEST_LINE],
        since=since,
        requested=(folder / "REQUESTED").is_file(),
        origin=origin,
    )


def _metadata(folder: Path) -> Metadata | None:
    file = folder if folder.is_file() else folder / _METADATA_NAMES[folder.suffix]
    try:
        return parse_metadata(read_regular(file, most=MOST_METADATA))
    except (OSError, MetadataBroken):
        return None


def _identity(folder: Path, metadata: Metadata | None) -> tuple[NormalizedName, Version] | None:
    """Name and version, from the folder's name where the metadata is gone; `None` where that is no name."""
    if metadata is not None:
        return metadata.name, metadata.version
    name, _, version = folder.stem.partition("-")
    if not is_name(name):
        return None
    try:
        return library_name(name), Version(version.partition("-")[0])
    except ValueError:
        return None
