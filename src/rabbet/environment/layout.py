"""Where things lie in an environment (PEP 405, POSIX form)."""

import os
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

__all__ = ["CONFIGURATION", "SHELL_FILES", "Layout"]

CONFIGURATION = "pyvenv.cfg"
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

    def destination(self, path: str) -> PurePosixPath | None:
        """Where a wheel's file goes, relative to the environment's folder (PEP 427, "Installing").

        `None` for a file that would replace what makes the folder an environment.
        """
        parts = PurePosixPath(path).parts
        if parts[0].endswith(".data") and len(parts) > 2:
            library = parts[0].partition("-")[0]
            folders = {
                "purelib": self.site_packages,
                "platlib": self.site_packages,
                "scripts": "bin",
                "headers": f"include/site/{library}",
                "data": "",
            }
            place = PurePosixPath(folders.get(parts[1], self.site_packages), *parts[2:])
        else:
            place = PurePosixPath(self.site_packages, path)
        reserved = str(place) in (CONFIGURATION, ".gitignore") or (
            place.parts[0] == "bin" and place.parts[1:] and place.parts[1].startswith(("python", "enter."))
        )
        return None if reserved else place

    def link_above(self, path: Path) -> Path | None:
        """The outermost folder of a library, on the way to a path, that is a link.

        Somebody may have put a link to a checkout there: what lies below it is not the environment's.
        """
        own = {self.site, self.scripts, *self.site.parents}
        above = [folder for folder in path.parents if self.root in folder.parents and folder not in own]
        return next((folder for folder in reversed(above) if folder.is_symlink()), None)

    def in_record(self, place: PurePosixPath) -> str:
        """A place as `RECORD` names it: relative to the folder that libraries are imported from."""
        return os.path.relpath(place, self.site_packages).replace(os.sep, "/")
