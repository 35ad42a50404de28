"""Removing an installed library: what its `RECORD` lists, inside the environment only."""

from collections.abc import Collection
from contextlib import suppress

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.atomic import cannot_write
from rabbet.disk.regular_file import read_regular
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import Layout
from rabbet.python.formats.record import read_record

__all__ = ["recorded_places", "remove_library", "remove_strays"]


def remove_library(guarded: GuardedEnvironment, folder: str, *, spared: Collection[str] = ()) -> None:
    """Remove a library by the name of its `.dist-info` folder; files in `spared` places belong to others too.

    `RECORD` outlives the files it lists, so that a removal that was cut short can be finished. Places that no
    library may have, and other libraries' `.dist-info` folders, stay whatever it lists. Of a folder that was
    replaced by a link only the link goes. Raises `CannotWrite`.
    """
    layout = guarded.layout
    info = f"{layout.site_packages}/{folder}"
    with cannot_write(layout.root):
        places = [place for place, _ in recorded_places(layout, folder) if place not in spared]
        modules = [place for place in places if not place.startswith(f"{info}/")]
        for place in modules:
            guarded.remove(place)
        _remove_by_products(guarded, modules, spared)
        guarded.remove_tree(info)
        _prune(guarded, modules)


def remove_strays(guarded: GuardedEnvironment, places: Collection[str]) -> None:
    """Remove files that nobody recorded. Raises `CannotWrite`."""
    with cannot_write(guarded.layout.root):
        for place in places:
            guarded.remove_tree(place)
        _prune(guarded, places)


def recorded_places(layout: Layout, folder: str) -> list[tuple[str, str | None]]:
    """Where an installed library's files lie, relative to the environment, and their recorded digests."""
    try:
        content = read_regular(layout.site / folder / "RECORD", most=MOST_TEXT_FILE)
        rows = read_record(content.decode("utf-8"))
    except (OSError, ValueError):
        return []
    found = ((layout.recorded(row.path, folder), row.sha256) for row in rows)
    return [(place, sha256) for place, sha256 in found if place is not None]


def _remove_by_products(
    guarded: GuardedEnvironment, modules: Collection[str], spared: Collection[str]
) -> None:
    """Compiled files beside modules that are gone (PEP 3147)."""
    gone: dict[str, set[str]] = {}
    for place in modules:
        folder, _, name = place.rpartition("/")
        if name.endswith(".py"):
            gone.setdefault(f"{folder}/__pycache__", set()).add(name.removesuffix(".py"))
    for cache, names in gone.items():
        for name in guarded.names(cache):
            if name.partition(".")[0] in names and f"{cache}/{name}" not in spared:
                guarded.remove(f"{cache}/{name}")


def _prune(guarded: GuardedEnvironment, places: Collection[str]) -> None:
    """Remove folders that are empty now, the innermost first."""
    folders = {place.rpartition("/")[0] for place in places}
    for folder in sorted(folders, key=lambda folder: folder.count("/"), reverse=True):
        with suppress(OSError):
            guarded.prune(f"{folder}/__pycache__")
        guarded.prune(folder)
