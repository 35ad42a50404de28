"""Where interpreters are found: on `PATH`, then in the usual places of systems and of self-built ones."""

import os
import re
from collections.abc import Iterator, Mapping
from pathlib import Path

__all__ = ["find_executables"]

_NAME = re.compile(r"^(python|python3|python3\.\d+t?|pypy3(\.\d+)?)$")
_SYSTEM_PLACES = (
    "/usr/local/bin",
    "/usr/bin",
    "/opt/*/bin",
    "/opt/*/*/bin",
    "/usr/local/*/bin",
    "/Library/Frameworks/Python.framework/Versions/*/bin",
)
_HOME_PLACES = (".local/bin", "bin", ".*/versions/*/bin", ".local/share/*/*/bin", "opt/*/bin")


def find_executables(environ: Mapping[str, str], home: Path) -> tuple[Path, ...]:
    """Every interpreter's real path, each once, in the order in which they were found.

    Scripts that start some interpreter are passed over: which one may depend on the folder or the day.
    """
    folders = dict.fromkeys(os.path.realpath(folder) for folder in _folders(environ, home))
    named = (path for folder in folders for path in _named_like_interpreters(folder))
    return tuple(Path(real) for real in dict.fromkeys(map(os.path.realpath, named)) if _is_program(real))


def _folders(environ: Mapping[str, str], home: Path) -> Iterator[Path]:
    for entry in environ.get("PATH", os.defpath).split(os.pathsep):
        if entry:
            yield Path(entry)
    for place in _SYSTEM_PLACES:
        yield from sorted(Path("/").glob(place.lstrip("/")))
    for place in _HOME_PLACES:
        yield from sorted(home.glob(place))


def _named_like_interpreters(folder: str) -> list[str]:
    try:
        names = os.listdir(folder)  # noqa: PTH208 - ten times as fast
        likely = sorted(name for name in names if name.startswith(("python", "pypy")))
        return [f"{folder}/{name}" for name in filter(_NAME.match, likely)]
    except OSError:
        return []


def _is_program(path: str) -> bool:
    """Whether it is a file that can be run, and no script."""
    try:
        if not os.path.isfile(path):  # noqa: PTH113 - a part of the lightest runs
            return False
        with open(path, "rb") as file:  # noqa: PTH123 - a part of the lightest runs
            return file.read(2) != b"#!" and os.access(path, os.X_OK)
    except OSError:
        return False
