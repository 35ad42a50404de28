"""Where things lie in an environment (PEP 405, POSIX form)."""

import posixpath
import re
from dataclasses import dataclass
from pathlib import Path

__all__ = ["CONFIGURATION", "SHELL_FILES", "Layout"]

CONFIGURATION = "pyvenv.cfg"
_RESERVED = re.compile(r"(pyvenv\.cfg|\.gitignore|rabbet\.(json|journal)|bin/python[0-9.]*|bin/enter\..*)\Z")
SHELL_FILES = ("enter.sh", "enter.bashrc", "enter.fish", "enter.ps1", "enter.zsh/.zshrc")


@dataclass(frozen=True, slots=True, kw_only=True)
class Layout:
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

    def destination(self, path: str) -> str | None:
        """Where a wheel's file goes, relative to the environment's folder (PEP 427, "Installing").

        `None` for a file that would replace what makes the folder an environment.
        """
        if "//" in path or "./" in path:
            path = posixpath.normpath(path)
        head, _, rest = path.partition("/")
        scheme, inside, inner = rest.partition("/")
        if head.endswith(".data") and inside:
            folders = {
                "scripts": "bin/",
                "headers": f"include/site/{head.partition('-')[0]}/",
                "data": "",
            }
            place = folders.get(scheme, f"{self.site_packages}/") + inner
        else:
            place = f"{self.site_packages}/{path}"
        return None if _RESERVED.match(place) else place

    def link_above(self, path: Path) -> Path | None:
        """The outermost folder of a library, on the way to a path, that is a link.

        Somebody may have put a link to a checkout there: what lies below it is not the environment's.
        """
        own = {self.site, self.scripts, *self.site.parents}
        above = [folder for folder in path.parents if self.root in folder.parents and folder not in own]
        return next((folder for folder in reversed(above) if folder.is_symlink()), None)

    def in_record(self, place: str) -> str:
        """A place as `RECORD` names it: relative to the folder that libraries are imported from."""
        site = f"{self.site_packages}/"
        if place.startswith(site):
            return place[len(site) :]
        return posixpath.relpath(place, self.site_packages)
