"""The only object that writes or deletes inside an environment; it follows no link.

Beyond what keeps any folder from leading outside, it knows which places belong to the environment itself: a
library never gets these, neither to write nor to take along when it goes.
"""

import errno
import os
import stat
from contextlib import suppress

from rabbet.disk.guarded import GuardedFolder
from rabbet.errors import EnvironmentFailed
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.place.linking import Linking

__all__ = ["GuardedEnvironment"]

_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW


class GuardedEnvironment(GuardedFolder):
    """An environment that is opened for changes.

    All methods raise `OSError`, and `EnvironmentFailed` where a part of the environment itself is a link.
    Whatever else stands in a library's place gives way.
    """

    def __init__(self, layout: Layout, linking: Linking) -> None:
        super().__init__(layout.root, follow=False)
        self.layout = layout
        self._linking = linking

    def put_file(self, place: str, content: bytes, *, executable: bool = False) -> None:
        """Write a library's file, in place of whatever is there."""
        folder, name = self._home(place, make=True)
        self._clear(place, folder)
        descriptor = os.open(name, _NEW_FILE, 0o644, dir_fd=folder)
        try:
            if os.write(descriptor, content) < len(content):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(self.root / place))
            os.fchmod(descriptor, 0o755 if executable else 0o644)
        finally:
            os.close(descriptor)

    def put(self, stored: str, place: str) -> None:
        """Put a file of the store into its place, in place of whatever is there."""
        folder, name = self._home(place, make=True)
        try:
            self._linking.put(stored, folder, name)
        except FileExistsError:
            self._clear(place, folder)
            self._linking.put(stored, folder, name)

    def put_all(self, stored: str, folder: str, names: list[str]) -> None:
        """Put files of one folder of the store into one of a new environment, under their names."""
        self._linking.put_all(stored, self.folder(folder, make=True), names)

    def link(self, place: str, target: str) -> None:
        """Make a symbolic link, which is a part of the environment itself."""
        folder, name = self._home(place, make=True)
        os.symlink(target, name, dir_fd=folder)

    def remove(self, place: str) -> None:
        """Remove a library's file; of a folder on the way that is a link only the link goes.

        What is no longer there, is a folder, or is no place of a library is left as it is.
        """
        if not self.layout.may_hold(place):
            return
        above, _, name = place.rpartition("/")
        try:
            folder = self.folder(above)
        except FileNotFoundError:
            return
        except NotADirectoryError:
            self._remove_link_above(above)
            return
        with suppress(FileNotFoundError):
            if not stat.S_ISDIR(os.lstat(name, dir_fd=folder).st_mode):
                os.unlink(name, dir_fd=folder)

    def _stays(self, place: str) -> bool:
        return place in self.layout.own_folders

    def _refuse_link(self, place: str) -> None:
        """A link gives way, as all else does."""

    def _blocked(self, above: int, name: str, place: str, *, make: bool) -> None:
        if place in self.layout.own_folders:
            raise EnvironmentFailed(
                f"{self.layout.root / place} is not a folder, as it should be in an environment",
                because=["nothing is written or deleted through it"],
                remedy="rabbet recreate --fresh",
            )
        if not make:
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), place)
        os.unlink(name, dir_fd=above)

    def _remove_link_above(self, place: str) -> None:
        """Remove the outermost link on the way to a place: somebody put it where a library's folder was."""
        parts = place.split("/")
        for depth in range(1, len(parts) + 1):
            above, name = "/".join(parts[: depth - 1]), parts[depth - 1]
            folder = self.folder(above)
            if stat.S_ISLNK(os.lstat(name, dir_fd=folder).st_mode):
                os.unlink(name, dir_fd=folder)
                return
