"""Where interpreters and other programs are found: on `PATH`, then in the usual places.

Nothing is taken from an environment or from a project: what lies there came with a library or a clone, and
would be run only because somebody looked. So a folder counts only if neither it nor one above it holds a
`pyvenv.cfg` or a declaration; the user's home and what is above that are no part of any clone.
"""

import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cache
from pathlib import Path

__all__ = ["find_executables", "trusted_path"]

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
_MARKS = ("pyvenv.cfg", "pyproject.toml")  # of an environment, of a project


def find_executables(environ: Mapping[str, str], home: Path) -> tuple[Path, ...]:
    """Every interpreter's real path, each once, in the order in which they were found.

    Scripts that start some interpreter are passed over: which one may depend on the folder or the day.
    """
    trusted = _trust(home)
    folders = dict.fromkeys(os.path.realpath(folder) for folder in _folders(environ, home))
    named = (path for folder in folders if trusted(folder) for path in _named_like_interpreters(folder))
    found = dict.fromkeys(map(os.path.realpath, named))
    return tuple(
        Path(real) for real in found if real.isprintable() and trusted(_above(real)) and _is_program(real)
    )


def trusted_path(environ: Mapping[str, str], home: Path) -> str:
    """`PATH` for helpers such as git, without relative folders and those of environments and projects."""
    trusted = _trust(home)
    kept = (one for one in _listed(environ) if trusted(one) and trusted(os.path.realpath(one)))
    return os.pathsep.join(kept)


def _trust(home: Path) -> Callable[[str], bool]:
    """Whether a folder lies outside environments and projects; each parent is checked once."""
    unmarked = {str(home), *map(str, home.parents), "/"}

    @cache
    def trusted(folder: str) -> bool:
        if folder in unmarked:
            return True
        if any(os.path.lexists(f"{folder}/{mark}") for mark in _MARKS):
            return False
        return trusted(_above(folder))

    return trusted


def _above(path: str) -> str:
    return path.rpartition("/")[0] or "/"


def _listed(environ: Mapping[str, str]) -> Iterable[str]:
    """The absolute folders of `PATH`."""
    return (one for one in environ.get("PATH", os.defpath).split(os.pathsep) if one.startswith("/"))


def _folders(environ: Mapping[str, str], home: Path) -> Iterator[str | Path]:
    yield from _listed(environ)
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
