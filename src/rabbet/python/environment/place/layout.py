"""Where things lie in an environment (PEP 405, POSIX form), and whose each place is."""

import posixpath
import re
from functools import cache
from pathlib import Path
from typing import NamedTuple

__all__ = [
    "CONFIGURATION",
    "ELSEWHERE",
    "INSTALLER",
    "MADE_BY_INSTALLERS",
    "PATH_FILE",
    "SHELL_FILES",
    "VARIABLES_FILE",
    "Layout",
    "commands_in",
    "interpreter_in",
    "is_reserved",
]

CONFIGURATION = "pyvenv.cfg"
INSTALLER = "rabbet"  # the content of that file for what Rabbet installed (PEP 627)
VARIABLES_FILE = "bin/enter.variables"  # what runtimes of other languages want, a line each
PATH_FILE = "rabbet.pth"  # leads to the project's modules where these are not installed
ELSEWHERE = "bin/elsewhere"  # stand-ins for programs that would install into another Python
SHELL_FILES = ("enter.sh", "enter.bashrc", "enter.fish", "enter.ps1", "enter.zsh/.zshrc")
# Some file systems take `PYVENV.CFG` for the same name; one beside an interpreter counts too (PEP 405).
_RESERVED = re.compile(
    r"((bin/)?pyvenv\.cfg|lib/[^/]+/site-packages/rabbet\.pth|\.gitignore|\.?rabbet\..*|bin/python[0-9.]*|bin/enter\..*"
    r"|bin/elsewhere(/.*)?)\Z",
    re.IGNORECASE | re.DOTALL,
)
MADE_BY_INSTALLERS = ("RECORD", "RECORD.jws", "RECORD.p7s", "INSTALLER", "REQUESTED", "direct_url.json")
"""In a wheel's own `.dist-info`: what installing writes itself, whatever the wheel brings."""

_INFO = re.compile(r"[^/]*\.(dist|egg)-info(/.*)?\Z", re.IGNORECASE | re.DOTALL)


def commands_in(root: Path) -> Path:
    """The folder of an environment's commands."""
    return root / "bin"


def interpreter_in(root: Path) -> Path:
    """The interpreter of an environment: a link to the one that it was made from."""
    return root / "bin" / "python"


def _plain(path: str) -> str:
    """A path without detours; most have none, and to work it out takes a while for tens of thousands."""
    return posixpath.normpath(path) if "//" in path or "./" in path or path.endswith(("/", ".")) else path


def is_reserved(place: str) -> bool:
    """Whether a place belongs to what makes a folder an environment."""
    return bool(_RESERVED.match(place))


@cache  # it is asked for each of tens of thousands of files
def _own_folders(site_packages: str) -> frozenset[str]:
    parts = site_packages.split("/")
    above = ("/".join(parts[:depth]) for depth in range(1, len(parts) + 1))
    return frozenset(("", "bin", "bin/enter.zsh", *above))


class Layout(NamedTuple):
    """The folders of one environment: its own, and relative to it that which libraries are imported from."""

    root: Path
    site_packages: str

    @property
    def site(self) -> Path:
        """The folder that libraries are imported from."""
        return self.root / self.site_packages

    @property
    def scripts(self) -> Path:
        """The folder of the interpreter and the commands."""
        return self.root / "bin"

    @property
    def own_folders(self) -> frozenset[str]:
        """The environment's own folders, which stay when a library goes and must never be links."""
        return _own_folders(self.site_packages)

    def may_hold(self, place: str) -> bool:
        """Whether a place may be a library's: inside, and no part of what makes the folder an environment."""
        inside = place and not place.startswith(("/", "../")) and place == _plain(place)
        return bool(inside) and place not in self.own_folders and not is_reserved(place)

    def destination(self, path: str, info: str) -> str | None:
        """Where a file of a wheel goes, relative to the environment's folder (PEP 427, "Installing").

        `info` is the wheel's own `.dist-info` folder. `None` for a file that would land in a place that is
        not the library's: one of the environment itself, another library's `.dist-info`, and its own one by
        the detour of `.data`.
        """
        if "//" in path or "./" in path:
            path = posixpath.normpath(path)
        head, _, rest = path.partition("/")
        scheme, inside, inner = rest.partition("/")
        if head == f"{info.removesuffix('.dist-info')}.data" and inside:
            folders = {
                "scripts": "bin/",
                "headers": f"include/site/{head.partition('-')[0]}/",
                "data": "",
            }
            place = folders.get(scheme, f"{self.site_packages}/") + inner
        else:
            place = f"{self.site_packages}/{path}"
        return place if self._is_owned(place, own_info=head == info) else None

    def in_record(self, place: str) -> str:
        """A place as `RECORD` names it: relative to the folder that libraries are imported from."""
        site = f"{self.site_packages}/"
        if place.startswith(site):
            return place[len(site) :]
        return posixpath.relpath(place, self.site_packages)

    def recorded(self, path: str, info: str) -> str | None:
        """The place that a row of `RECORD` means; `None` where the library may have nothing.

        `info` is the library's own `.dist-info` folder.
        """
        place = _plain(f"{self.site_packages}/{path}")
        own = place.startswith(f"{self.site_packages}/{info}/")
        return place if not path.startswith("/") and self._is_owned(place, own_info=own) else None

    def stays_as_in_wheel(self, place: str, info: str) -> bool:
        """Whether every installer leaves a file of a wheel as it is: commands get another first line."""
        below = place.removeprefix(f"{self.site_packages}/")
        made = below.startswith(f"{info}/") and below.removeprefix(f"{info}/") in MADE_BY_INSTALLERS
        return below != place and not made and not below.endswith(".pyc")

    def _is_owned(self, place: str, *, own_info: bool) -> bool:
        """Whether a place may be a certain library's: then it is in no other library's `.dist-info`."""
        site = f"{self.site_packages}/"
        inside = place.lower().startswith(site.lower())
        of_another = inside and not own_info and _INFO.match(place[len(site) :])
        return self.may_hold(place) and not of_another
