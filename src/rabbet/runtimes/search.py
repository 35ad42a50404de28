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
    found: dict[Path, None] = {}
    for folder in dict.fromkeys(_folders(environ, home)):
        for path in _named_like_interpreters(folder):
            real = Path(os.path.realpath(path))
            if real not in found and os.access(real, os.X_OK) and real.is_file() and not _is_script(real):
                found[real] = None
    return tuple(found)


def _folders(environ: Mapping[str, str], home: Path) -> Iterator[Path]:
    for entry in environ.get("PATH", os.defpath).split(os.pathsep):
        if entry:
            yield Path(entry)
    for place in _SYSTEM_PLACES:
        yield from sorted(Path("/").glob(place.lstrip("/")))
    for place in _HOME_PLACES:
        yield from sorted(home.glob(place))


def _named_like_interpreters(folder: Path) -> list[Path]:
    try:
        names = os.listdir(folder)  # noqa: PTH208 - ten times as fast
        likely = sorted(name for name in names if name.startswith(("python", "pypy")))
        return [folder / name for name in filter(_NAME.match, likely)]
    except OSError:
        return []


def _is_script(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(2) == b"#!"
    except OSError:
        return True
