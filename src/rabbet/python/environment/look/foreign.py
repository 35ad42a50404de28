"""Inspection of an environment made by others: by its files alone, wherever libraries lie.

That may be an environment (PEP 405), the folder of an interpreter such as `/usr`, the tree of a whole system,
or the folder that libraries are imported from.
"""

import re
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.limits import MOST_METADATA
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.disk.regular_file import read_regular
from rabbet.errors import EnvironmentFailed
from rabbet.python.environment.look.examine import Begin, Reading, unobserved
from rabbet.python.environment.look.inspect import Vouched, inventory_of
from rabbet.python.environment.place.configuration import Configuration, read_configuration
from rabbet.python.environment.place.layout import CONFIGURATION, Layout

__all__ = ["foreign_inventory", "library_folders"]

_BELOW = (
    "lib/python*/site-packages",
    "lib/python*/dist-packages",
    "local/lib/python*/dist-packages",
    "usr/lib/python*/site-packages",
    "usr/lib/python*/dist-packages",
    "usr/local/lib/python*/*-packages",
    "Lib/site-packages",
)
_MINOR = re.compile(r"python(3\.\d+)")
_VERSION = re.compile(r'^#define PY_VERSION\s+"([0-9]{1,3}\.[0-9]{1,3}\.[0-9]{1,3})', re.MULTILINE)


def foreign_inventory(
    place: Path,
    default: Version,
    begin: Begin = unobserved,
    vouch: Callable[[Layout, Inventory], Vouched] | None = None,
    *,
    sound: bool = False,
) -> Inventory:
    """The inventory of all folders of libraries there; a library that two of them hold is a second copy.

    To look deeper, `vouch` is asked for the digests that the files of each folder should have. No file is
    looked at where they are said to be `sound`.

    The version of Python is that of `pyvenv.cfg`, else the one in the folders' names, else the `default`.
    Raises `EnvironmentFailed` where there are no libraries at all.
    """
    sites = library_folders(place)
    configuration = _configuration(place, sites, default)
    found: dict[NormalizedName, Installed] = {}
    twins: list[Installed] = []
    for site in sites:
        layout = Layout(root=site.parent, site_packages=site.name)
        vouched = vouch(layout, inventory_of(layout, configuration, sound=True)) if vouch else None
        part = inventory_of(layout, configuration, Reading(begin), sound=sound, vouched=vouched)
        all_of_them = (*part.libraries.values(), *part.twins)
        twins += (
            installed
            for installed in all_of_them
            if found.setdefault(installed.name, installed) is not installed
        )
    return replace(part, libraries=found, twins=tuple(twins))


def library_folders(place: Path) -> list[Path]:
    """The folders there that libraries are imported from. Raises `EnvironmentFailed` where there is none."""
    sites = sorted(set(_sites(place)))
    if not sites:
        raise EnvironmentFailed(
            f"no libraries are installed in {place}",
            because=["there is no site-packages or dist-packages folder in it, and it holds no .dist-info"],
        )
    return sites


def _sites(place: Path) -> Iterator[Path]:
    """The folders that libraries are imported from."""
    if next(place.glob("*.dist-info"), None) or next(place.glob("*.egg-info"), None):
        yield place.resolve()
        return
    for pattern in _BELOW:
        yield from (path.resolve() for path in place.glob(pattern) if path.is_dir())


def _patch(place: Path, minor: str | None) -> Version | None:
    """The whole version of an interpreter, by the header file in its folder; `None` where there is none."""
    with suppress(OSError):
        header = read_regular(place / "include" / f"python{minor}" / "patchlevel.h", most=MOST_METADATA)
        found = _VERSION.search(header.decode("utf-8", "replace"))
        return Version(found.group(1)) if found else None
    return None


def _configuration(place: Path, sites: list[Path], default: Version) -> Configuration:
    if (place / CONFIGURATION).is_file():
        with suppress(EnvironmentFailed):  # it says little: then the folders' names tell
            return read_configuration(place)
    told = next((found.group(1) for site in sites if (found := _MINOR.search(str(site)))), None)
    same = told is None or default.release[:2] == Version(told).release
    python = _patch(place, told) or (default if same else Version(str(told)))
    return Configuration(python=python, implementation="cpython", site_packages=sites[0].name)
