"""Where the programs of runtimes are found: on `PATH`, in the usual places, and where they were used before.

Nothing is taken from an environment or from a project: what lies there came with a library or a clone, and
would be run only because somebody looked. So a folder counts only if neither it nor one above it holds a
`pyvenv.cfg` or a declaration; the user's home and what is above that are no part of any clone. The
interpreter of an environment that was made here counts too, wherever it lies.
"""

import os
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cache
from itertools import chain
from pathlib import Path
from typing import NamedTuple

__all__ = [
    "LAUNCHER",
    "Look",
    "Program",
    "find_executables",
    "find_programs",
    "interpreter_behind",
    "state_of_place",
    "trusted_path",
]

_PYTHON = re.compile(r"^(python|python3|python3\.\d+t?|pypy3(\.\d+)?)$")
_SYSTEM_PLACES = (
    "/usr/local/bin",
    "/usr/bin",
    "/opt/*/bin",
    "/opt/*/*/bin",
    "/opt/*",
    "/usr/local/*/bin",
    "/usr/lib/jvm/*/bin",
    "/usr/lib/*/bin",
    "/Library/Frameworks/Python.framework/Versions/*/bin",
)
_HOME_PLACES = (
    ".local/bin",
    "bin",
    ".*/bin",
    ".*/*/bin",
    ".*/*/*/bin",
    ".local/*/bin",
    ".local/share/*/*/bin",
    "opt/*/bin",
    "opt/*",
)
LAUNCHER = "#!/bin/sh\n# Lent by Rabbet"  # begins the programs that `lend` writes, which only start others
_NOTHING, _LINK = "-", "link"
_MARKS = ("pyvenv.cfg", "pyproject.toml")  # of an environment, of a project


class Program(NamedTuple):
    """A program by its name and its real path; one that `is_script` starts another one."""

    name: str
    path: str
    is_script: bool


class Look:
    """Reads folders and looks for marks, and keeps the state in which each place was then.

    As long as all of them are as they were, a search comes to the same again, unless a folder that had no
    `bin` got one; to watch all of these would cost what the search itself does.
    """

    def __init__(self) -> None:
        self.states: dict[str, str] = {}

    def exists(self, place: str) -> bool:
        """Whether anything is there, be it a link that leads nowhere."""
        if place not in self.states:
            self.states[place] = state_of_place(place)
        return self.states[place] != _NOTHING

    def names(self, folder: str, wanted: Callable[[str], bool]) -> list[str]:
        """The names in it that are wanted, sorted; none where it can't be read."""
        self.exists(folder)
        try:
            return sorted(filter(wanted, os.listdir(folder)))  # noqa: PTH208 - ten times as fast
        except OSError:
            return []


def state_of_place(place: str) -> str:
    """The inode of a file or folder, and its time of modification: when a name in it was added or removed."""
    try:
        state = os.stat(place)  # noqa: PTH116 - a part of the lightest runs
    except OSError:
        return _LINK if os.path.islink(place) else _NOTHING  # noqa: PTH114 - as above
    return f"{state.st_ino} {state.st_mtime_ns}"


def find_executables(
    environ: Mapping[str, str], home: Path, used: Iterable[str] = (), look: Look | None = None
) -> tuple[Path, ...]:
    """Every interpreter of Python, by its real path, each once, in the order in which they were found.

    Scripts that start some interpreter are passed over: which one may depend on the folder or the day.
    """
    found = find_programs(
        environ, home, lambda name: name[:2] == "py" and bool(_PYTHON.match(name)), used, look
    )
    return tuple(dict.fromkeys(Path(program.path) for program in found if not program.is_script))


def find_programs(
    environ: Mapping[str, str],
    home: Path,
    wanted: Callable[[str], bool],
    used: Iterable[str] = (),
    look: Look | None = None,
) -> Iterator[Program]:
    """All programs whose names are wanted, each name and real path once, in the order of finding.

    Folders with runtimes that environments have `used` come last. A `look` knows afterwards what was read.
    """
    look = look or Look()
    trusted = _trust(home, look)
    folders = dict.fromkeys(os.path.realpath(folder) for folder in chain(_folders(environ, home, look), used))
    seen: set[tuple[str, str]] = set()
    for folder in folders:
        for name in look.names(folder, wanted) if trusted(folder) else ():
            real = os.path.realpath(f"{folder}/{name}")
            if (name, real) in seen or not real.isprintable() or not trusted(_above(real)):
                continue
            seen.add((name, real))
            is_script = _is_script(real)
            if is_script is not None:
                yield Program(name, real, is_script)


def interpreter_behind(environment: Path, home: Path) -> Path | None:
    """The interpreter that an environment is run by; `None` where a project or an environment holds it."""
    real = os.path.realpath(environment / "bin" / "python")
    known = (
        _PYTHON.match(real.rpartition("/")[2]) and _trust(home, Look())(_above(real)) and real.isprintable()
    )
    return Path(real) if known and _is_script(real) is False else None


def trusted_path(environ: Mapping[str, str], home: Path) -> str:
    """`PATH` for helpers such as git, without relative folders and those of environments and projects."""
    trusted = _trust(home, Look())
    kept = (folder for folder in _listed(environ) if trusted(folder) and trusted(os.path.realpath(folder)))
    return os.pathsep.join(kept)


def _trust(home: Path, look: Look) -> Callable[[str], bool]:
    """Whether a folder lies outside environments and projects; each parent is checked once."""
    unmarked = {str(home), *map(str, home.parents), "/"}

    @cache
    def trusted(folder: str) -> bool:
        if folder in unmarked:
            return True
        if any(look.exists(f"{folder}/{mark}") for mark in _MARKS):
            return False
        return trusted(_above(folder))

    return trusted


def _above(path: str) -> str:
    return path.rpartition("/")[0] or "/"


def _listed(environ: Mapping[str, str]) -> Iterable[str]:
    """The absolute folders of `PATH`."""
    return (folder for folder in environ.get("PATH", os.defpath).split(os.pathsep) if folder.startswith("/"))


def _folders(environ: Mapping[str, str], home: Path, look: Look) -> Iterator[str]:
    yield from _listed(environ)
    for place in _SYSTEM_PLACES:
        yield from _matching("", place.split("/")[1:], look)
    for place in _HOME_PLACES:
        yield from _matching(str(home), place.split("/"), look)


def _matching(folder: str, pattern: Sequence[str], look: Look) -> Iterator[str]:
    """The folders below one that may match a pattern, where `*` is any name, `.*` any hidden one.

    A third of the time that the library's own search takes, in what is a part of the lightest runs.
    """
    if not pattern:
        if os.path.isdir(folder):  # noqa: PTH112 - a part of the lightest runs
            yield folder
    elif not pattern[0].endswith("*"):
        yield from _matching(f"{folder}/{pattern[0]}", pattern[1:], look)
    else:
        hidden = pattern[0].startswith(".")
        for name in look.names(folder, lambda name: name.startswith(".") == hidden):
            yield from _matching(f"{folder}/{name}", pattern[1:], look)


def _is_script(path: str) -> bool | None:
    """Whether a file that can be run is a script; `None` if it is no such file, or was lent by Rabbet."""
    try:
        if not os.path.isfile(path):  # noqa: PTH113 - a part of the lightest runs
            return None
        with open(path, "rb") as file:  # noqa: PTH123 - a part of the lightest runs
            head = file.read(len(LAUNCHER))
            runs = os.access(path, os.X_OK) and head != LAUNCHER.encode()
            return head[:2] == b"#!" if runs else None
    except OSError:
        return None
