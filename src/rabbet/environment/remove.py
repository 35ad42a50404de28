"""Removing an installed library: what its `RECORD` lists, inside the environment only."""

import os
import shutil
from collections.abc import Container, Iterator
from contextlib import suppress
from pathlib import Path

from rabbet.environment.layout import Layout
from rabbet.formats.record import read_record
from rabbet.store.atomic import cannot_write

__all__ = ["recorded_places", "remove_library"]


def remove_library(layout: Layout, folder: str, *, spared: Container[str] = ()) -> None:
    """Remove a library by the name of its `.dist-info` folder; files in `spared` places belong to others too.

    `RECORD` outlives the files it lists, so that a removal that was cut short can be finished. Of a folder
    that was replaced by a link only the link goes. Raises `CannotWrite`.
    """
    info = layout.site / folder
    with cannot_write(info):
        files = [path for path in _files(layout, info) if str(path.relative_to(layout.root)) not in spared]
        for path in files:
            link = layout.link_above(path)
            if link is not None:
                link.unlink()
                continue
            with suppress(FileNotFoundError):
                path.unlink()
            _remove_compiled(path)
        if info.is_dir() and not info.is_symlink():
            shutil.rmtree(info)
        else:
            info.unlink(missing_ok=True)
        for parent in sorted({path.parent for path in files}, key=lambda p: len(p.parts), reverse=True):
            _prune(parent, layout)


def recorded_places(layout: Layout, folder: str) -> list[tuple[str, str | None]]:
    """Where an installed library's files lie, relative to the environment, and their recorded digests."""
    try:
        rows = read_record((layout.site / folder / "RECORD").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return []
    site = layout.site_packages
    return [(os.path.normpath(f"{site}/{row.path}"), row.sha256) for row in rows]


def _files(layout: Layout, info: Path) -> Iterator[Path]:
    """List the recorded files outside the `.dist-info` folder, leaving out what lies elsewhere."""
    try:
        rows = read_record((info / "RECORD").read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return
    root = os.path.join(layout.root, "")  # noqa: PTH118 - keeps the trailing slash
    for row in rows:
        path = os.path.normpath(layout.site / row.path)
        if path.startswith(root) and not path.startswith(str(info)) and not Path(path).is_dir():
            yield Path(path)


def _remove_compiled(path: Path) -> None:
    """Python's own by-products next to a module."""
    if path.suffix == ".py":
        for compiled in (path.parent / "__pycache__").glob(f"{path.stem}.*.pyc"):
            compiled.unlink(missing_ok=True)


def _prune(folder: Path, layout: Layout) -> None:
    """Remove folders that are empty now, up to those that belong to the environment itself."""
    kept = {layout.root, layout.site, layout.scripts}
    while folder not in kept and layout.root in folder.parents:
        with suppress(OSError):
            (folder / "__pycache__").rmdir()
        try:
            folder.rmdir()
        except OSError:
            return
        folder = folder.parent
