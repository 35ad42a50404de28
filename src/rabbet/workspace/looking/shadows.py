"""Modules that Python takes for those of an installed library, because they lie in a folder that comes first.

A program that is started in the project's folder, with `-m` or `-c` or as a file there, looks in that folder
first, then in those of `PYTHONPATH`; an interpreter that is not isolated in the user's own site (PEP 370)
too.
"""

import os
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rabbet.core.limits import MOST_METADATA, MOST_TEXT_FILE
from rabbet.disk.regular_file import read_regular
from rabbet.python.environment.place.layout import CONFIGURATION

if TYPE_CHECKING:
    from packaging.version import Version

    from rabbet.workspace.session import Session

__all__ = ["Shadow", "any_shadow", "folders_in_front", "is_isolated", "owner_of", "shadows", "users_site"]


_LOADED = ("py", "pyc", "so", "abi3.so", "pyd")  # the endings of what any Python loads as a module


class Shadow(NamedTuple):
    """A module of an installed library by its name, and the file that is imported in its place."""

    module: str
    file: Path


def folders_in_front(project: Path, python_path: str) -> list[Path]:
    """The project's folder, and those that the variable `PYTHONPATH` names."""
    named = (Path(entry) for entry in python_path.split(os.pathsep) if entry)
    return [project, *(project / path for path in named)]


def is_isolated(root: Path) -> bool:
    """Whether an environment keeps the user's own libraries out, as most do (PEP 405)."""
    try:
        text = read_regular(root / CONFIGURATION, most=MOST_METADATA).decode("utf-8", "replace")
    except OSError:
        return False
    lines = (line.partition("=") for line in text.lower().splitlines())
    return not any(
        key.strip() == "include-system-site-packages" and value.strip() == "true" for key, _, value in lines
    )


def users_site(home: Path, python: "Version") -> Path:
    """Where the user's own libraries lie, in POSIX form (PEP 370)."""
    return home / ".local" / "lib" / f"python{python.major}.{python.minor}" / "site-packages"


def shadows(folders: list[Path], site: Path) -> Iterator[Shadow]:
    """The modules of the folder `site` that are hidden by one of the `folders`; nothing is read but names."""
    behind = _names(site)
    minor = site.parent.name.removeprefix("python").replace(".", "")
    for folder in folders:
        if folder.resolve() != site.resolve():
            found = sorted(_modules(folder, minor))
            yield from (Shadow(name, file) for name, file in found if name in behind)


def _names(folder: Path) -> frozenset[str]:
    with suppress(OSError), os.scandir(folder) as entries:
        return frozenset(entry.name.partition(".")[0] for entry in entries)
    return frozenset()


def _modules(folder: Path, minor: str) -> Iterator[tuple[str, Path]]:
    """Modules and packages; a folder without `__init__.py` gives way to any other one (PEP 420).

    Of compiled modules those count that Python loads in this `minor` version, such as `311`.
    """
    with suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            stem, _, ending = entry.name.partition(".")
            if not stem.isidentifier():
                continue
            if ending in _LOADED or ending.startswith(f"cpython-{minor}-"):
                yield stem, folder / entry.name
            elif not ending and os.path.isfile(f"{entry.path}/__init__.py"):  # noqa: PTH113 - many are asked for
                yield stem, folder / entry.name / "__init__.py"


def any_shadow(session: "Session") -> bool:
    """Quick check: whether any module could be shadowed."""
    folders = folders_in_front(session.project.folder, session.machine.environ.get("PYTHONPATH", ""))
    sites = session.project.environment.glob("lib/*/site-packages")
    return any(shadow for site in sites for shadow in shadows(folders, site))


def owner_of(module: str, site: Path) -> str:
    """The `.dist-info` folder of the library that a module belongs to, by its record; else empty."""
    for info in sorted(site.glob("*.dist-info")):
        with suppress(OSError):
            record = read_regular(info / "RECORD", most=MOST_TEXT_FILE)
            starts = (f"{module}/".encode(), f"{module}.".encode())
            if any(line.lstrip(b'"').startswith(starts) for line in record.splitlines()):
                return info.name
    return ""
