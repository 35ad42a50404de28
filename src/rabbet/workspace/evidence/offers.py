"""Which modules, commands and plug-ins the project's libraries offer: from their files, never by a guess."""

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_METADATA, MOST_TEXT_FILE
from rabbet.core.model.lock import Needed, ToInstall
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed
from rabbet.net.local_file import local_path
from rabbet.python.code.imports import LibraryContents
from rabbet.python.code.module_names import is_start_up, module_names
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.formats.entry_points import read_commands, read_plugin_groups
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata
from rabbet.python.formats.record import read_record
from rabbet.python.store.store import Store

# Where a record has programs that came as they are, in an environment and in a wheel.
_PROGRAM = re.compile(r"((\.\./)+bin|[^/]+\.data/scripts)/[^/]+\Z")

__all__ = ["offers_in", "offers_of"]


def offers_of(
    environment: Path, wanted: Iterable[ToInstall], store: Store
) -> Mapping[NormalizedName, LibraryContents]:
    """The contents of installed libraries, and of the other wanted ones as far as the store has them.

    Raises `EnvironmentFailed` where something that is wanted is in neither.
    """
    found = dict(_installed(environment))
    lacking = []
    for library in wanted:
        name = library.locked.name
        unpacked = (
            store.known(library.artifact) if isinstance(library, Needed) and name not in found else None
        )
        if unpacked is not None:
            points = [
                file.path for file in unpacked.files if file.path.endswith(".dist-info/entry_points.txt")
            ]
            text = _text(unpacked.tree / points[0]) if points else ""
            found[name] = _offered((file.path for file in unpacked.files), text)
        elif name not in found:
            lacking.append(f"{name} {library.locked.version}")
    if lacking:
        raise EnvironmentFailed(
            "not all libraries are here, so nobody can say which modules they offer",
            because=[", ".join(lacking)],
            remedy="rabbet recreate --everything",
        )
    return found


def _installed(environment: Path) -> Iterator[tuple[NormalizedName, LibraryContents]]:
    """The contents of each installed library; empty without an environment."""
    with suppress(EnvironmentFailed):
        yield from offers_in(environment / read_configuration(environment).site_packages)


def offers_in(site: Path) -> Iterator[tuple[NormalizedName, LibraryContents]]:
    """The contents of each library in a folder, by its `RECORD` or an old installer's list."""
    for folder in sorted((*site.glob("*.dist-info"), *site.glob("*.egg-info/"))):
        metadata = folder / ("METADATA" if folder.suffix == ".dist-info" else "PKG-INFO")
        try:
            name = parse_metadata(read_regular(metadata, most=MOST_METADATA)).name
            paths = [row.path for row in read_record(_text(folder / "RECORD"))]
        except (OSError, MetadataBroken, ValueError):
            continue
        modules = (f"{module}/__init__.py" for module in _text(folder / "top_level.txt").split())
        paths = paths or [*modules]
        yield name, _offered([*paths, *_in_checkout(folder)], _text(folder / "entry_points.txt"))


def _in_checkout(info: Path) -> Iterator[str]:
    """Importable modules in the folder of an editable library (PEP 610, 660)."""
    with suppress(ValueError, TypeError, KeyError, AttributeError):
        told = json.loads(_text(info / "direct_url.json"))
        folder = local_path(told["url"]) if told.get("dir_info", {}).get("editable") else None
        for place in (folder, folder / "src") if folder is not None else ():
            yield from (file.relative_to(place).as_posix() for file in place.glob("*.py"))
            yield from (file.relative_to(place).as_posix() for file in place.glob("*/*.py"))


def _offered(paths: Iterable[str], entry_points: str) -> LibraryContents:
    plugins: tuple[str, ...] = ()
    places = tuple(paths)
    commands = {place.rpartition("/")[2] for place in places if _PROGRAM.match(place)}
    with suppress(ValueError):
        commands |= {command.name for command in read_commands(entry_points)}
        plugins = read_plugin_groups(entry_points)
    return LibraryContents(
        modules=module_names(places),
        commands=tuple(sorted(commands)),
        plugins=plugins,
        start_up=tuple(sorted(place for place in places if is_start_up(place))),
    )


def _text(file: Path) -> str:
    """A text file of a library; empty where there is none that can be read."""
    try:
        return read_regular(file, most=MOST_TEXT_FILE).decode("utf-8", "replace")
    except OSError:
        return ""
