"""The only object that writes or deletes inside an environment; it follows no link.

It opens each folder from the one above it and follows no link, so whatever stands in an environment, nothing
outside of it is touched (openat(2), `O_NOFOLLOW`). It knows which places belong to the environment itself: a
library never gets these, neither to write nor to take along when it goes.

Places are texts, relative to the environment and with forward slashes.
"""

import errno
import os
import stat
from collections import OrderedDict
from contextlib import suppress
from types import TracebackType
from typing import Self

from rabbet.environment.layout import Layout
from rabbet.environment.linking import Linking
from rabbet.errors import EnvironmentFailed

__all__ = ["GuardedEnvironment"]

_MOST_OPEN = 64  # folders that are kept open; a process may open some hundreds
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW
_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW


class GuardedEnvironment:
    """An environment that is opened for changes; to be used in one thread, in a `with` statement.

    All methods raise `OSError`, and `EnvironmentFailed` where a part of the environment itself is a link.
    """

    def __init__(self, layout: Layout, linking: Linking) -> None:
        self.layout = layout
        self._linking = linking
        self._open: OrderedDict[str, int] = OrderedDict()
        self._root = os.open(layout.root, _FOLDER)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for descriptor in (*self._open.values(), self._root):
            os.close(descriptor)

    def write(self, place: str, content: bytes, *, executable: bool = False) -> None:
        """Write a file, in place of whatever is there."""
        folder, name = self._home(place)
        self._clear(place, folder)
        descriptor = os.open(name, _NEW_FILE, 0o644, dir_fd=folder)
        try:
            _write_whole(descriptor, content)
            os.fchmod(descriptor, 0o755 if executable else 0o644)
        finally:
            os.close(descriptor)

    def replace(self, name: str, content: bytes) -> None:
        """Replace one of the environment's own files, so that a reader sees the old one or the new one."""
        temporary = f".rabbet.{name}.{os.getpid()}"
        descriptor = os.open(temporary, _NEW_FILE & ~os.O_EXCL | os.O_TRUNC, 0o644, dir_fd=self._root)
        try:
            _write_whole(descriptor, content)
            os.fsync(descriptor)
        except BaseException:
            os.unlink(temporary, dir_fd=self._root)
            raise
        finally:
            os.close(descriptor)
        os.rename(temporary, name, src_dir_fd=self._root, dst_dir_fd=self._root)

    def put(self, stored: str, place: str) -> None:
        """Put a file of the store into its place, in place of whatever is there."""
        folder, name = self._home(place)
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
        folder, name = self._home(place)
        os.symlink(target, name, dir_fd=folder)

    def folder(self, place: str, *, make: bool = False) -> int:
        """The descriptor of a folder; it may be closed again by later calls.

        One that does not exist is made, if it is to be: then a file or a link on the way gives way, for it
        stands in a library's place. Raises `FileNotFoundError`, `NotADirectoryError`.
        """
        if not place:
            return self._root
        if place in self._open:
            self._open.move_to_end(place)
            return self._open[place]
        above, _, name = place.rpartition("/")
        descriptor = self._opened(self.folder(above, make=make), name, place, make=make)
        self._open[place] = descriptor
        if len(self._open) > _MOST_OPEN:
            os.close(self._open.popitem(last=False)[1])
        return descriptor

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

    def remove_tree(self, place: str) -> None:
        """Remove what is in a place, a folder with all that it holds; no link in it is followed."""
        with suppress(FileNotFoundError, NotADirectoryError):
            self._clear(place, self.folder(place.rpartition("/")[0]))

    def names(self, place: str) -> list[str]:
        """What a folder holds; nothing where there is none."""
        try:
            return os.listdir(self.folder(place))  # noqa: PTH208 - of a descriptor
        except (FileNotFoundError, NotADirectoryError):
            return []

    def prune(self, place: str) -> None:
        """Remove a folder if it is empty, and then the ones above it, but for the environment's own."""
        while place and place not in self.layout.own_folders:
            above, _, name = place.rpartition("/")
            try:
                self._close_below(place)
                os.rmdir(name, dir_fd=self.folder(above))
            except OSError:
                return
            place = above

    def _home(self, place: str) -> tuple[int, str]:
        above, _, name = place.rpartition("/")
        return self.folder(above, make=True), name

    def _opened(self, above: int, name: str, place: str, *, make: bool) -> int:
        """A folder inside an opened one."""
        try:
            return os.open(name, _FOLDER, dir_fd=above)
        except FileNotFoundError:
            if not make:
                raise
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            if place in self.layout.own_folders:
                raise EnvironmentFailed(
                    f"{self.layout.root / place} is not a folder, as it should be in an environment",
                    because=["nothing is written or deleted through it"],
                    remedy="rabbet recreate --fresh",
                ) from error
            if not make:
                raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR), place) from error
            os.unlink(name, dir_fd=above)
        os.mkdir(name, 0o755, dir_fd=above)
        return os.open(name, _FOLDER, dir_fd=above)

    def _remove_link_above(self, place: str) -> None:
        """Remove the outermost link on the way to a place: somebody put it where a library's folder was."""
        parts = place.split("/")
        for depth in range(1, len(parts) + 1):
            above, name = "/".join(parts[: depth - 1]), parts[depth - 1]
            folder = self.folder(above)
            if stat.S_ISLNK(os.lstat(name, dir_fd=folder).st_mode):
                os.unlink(name, dir_fd=folder)
                return

    def _clear(self, place: str, folder: int) -> None:
        """Remove whatever is in a place, with all that it holds; `folder` is the opened one above."""
        name = place.rpartition("/")[2]
        try:
            mode = os.lstat(name, dir_fd=folder).st_mode
        except FileNotFoundError:
            return
        if stat.S_ISDIR(mode):
            import shutil  # here: what is made anew has nothing to clear

            self._close_below(place)
            shutil.rmtree(name, dir_fd=folder)
        else:
            os.unlink(name, dir_fd=folder)

    def _close_below(self, place: str) -> None:
        """Close the descriptors of a folder and those below it before it is removed."""
        for known in [one for one in self._open if one == place or one.startswith(f"{place}/")]:
            os.close(self._open.pop(known))


def _write_whole(descriptor: int, content: bytes) -> None:
    """Write all bytes. Raises `OSError` where a full disk takes only a part of them."""
    if os.write(descriptor, content) < len(content):
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
