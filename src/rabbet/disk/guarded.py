"""A folder that somebody else may have prepared, opened for changes.

Each folder is opened from the one above it and no link is followed (openat(2), `O_NOFOLLOW`), so whatever
lies there, nothing outside is read, written or deleted. Places are texts, relative to the folder and with
forward slashes.
"""

import errno
import os
import stat
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Self

from rabbet.core.shell import quoted
from rabbet.errors import CannotWrite

__all__ = ["PARTIAL", "GuardedFolder", "parted"]

PARTIAL = ".partial"  # the ending of a file that is being written; a killed run may leave it
_MOST_OPEN = 64  # folders that are kept open; a process may open some hundreds
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC
_NEW_FILE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC


class GuardedFolder:
    """The folder; to be used in one thread, in a `with` statement.

    All methods raise `OSError`, and `CannotWrite` where a link, or a file, stands in the place of a folder.
    """

    def __init__(self, root: Path, *, follow: bool = True) -> None:
        """Open a folder that is there; a link in its own place is followed, or else refused."""
        self.root = root
        self._open: OrderedDict[str, int] = OrderedDict()
        self._root = os.open(root, _FOLDER if follow else _FOLDER | os.O_NOFOLLOW)

    @classmethod
    def at(cls, path: Path, below: Path | None = None) -> Self:
        """Open a folder that the user named, and make it where it is not there.

        Its last part must not be a link; and where it lies below a folder, no part beyond that.
        """
        anchor, place = parted(path, below)
        with GuardedFolder(anchor) as above:
            above.folder(place, make=True)
        return cls(anchor / place, follow=False)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for descriptor in (*self._open.values(), self._root):
            os.close(descriptor)

    def folder(self, place: str, *, make: bool = False) -> int:
        """The descriptor of a folder, which is made on demand; later calls may close it again.

        Raises `FileNotFoundError`.
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

    def names(self, place: str = "") -> list[str]:
        """The names in a folder, sorted; empty when it does not exist."""
        try:
            return sorted(os.listdir(self.folder(place)))  # noqa: PTH208 - of a descriptor
        except (FileNotFoundError, NotADirectoryError, CannotWrite):
            return []

    def is_folder(self, place: str) -> bool:
        """Whether a folder is there, and no link."""
        return self._mode(place, stat.S_ISDIR)

    def files(self, place: str = "") -> Iterator[str]:
        """The places of all regular files in a folder and those below it."""
        for name in self.names(place):
            inner = f"{place}/{name}" if place else name
            if self.is_folder(inner):
                yield from self.files(inner)
            elif self._mode(inner, stat.S_ISREG):
                yield inner

    def read(self, place: str, *, most: int) -> bytes:
        """A regular file's content, of at most so many bytes."""
        descriptor = self.opened_file(place)
        with os.fdopen(descriptor, "rb") as file:
            content = file.read(most + 1)
        if len(content) > most:
            raise OSError(errno.EFBIG, os.strerror(errno.EFBIG), str(self.root / place))
        return content

    def opened_file(self, place: str) -> int:
        """The descriptor of a regular file, opened for reading; the caller closes it."""
        above, name = self._home(place)
        descriptor = os.open(name, _READ, dir_fd=above)
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            os.close(descriptor)
            raise OSError(errno.EINVAL, "it is not a regular file", str(self.root / place))
        return descriptor

    def holds(self, place: str, sha256: str) -> bool:
        """Whether a regular file with this content is there."""
        import hashlib  # here: the lightest runs hash nothing

        try:
            with os.fdopen(self.opened_file(place), "rb") as file:
                return hashlib.file_digest(file, "sha256").hexdigest() == sha256
        except (OSError, CannotWrite):
            return False

    @contextmanager
    def replacing(self, place: str, *, mode: int | None = None, sync: bool = True) -> Iterator[BinaryIO]:
        """A new file, which takes its place when all of it was written; where anything is raised, none does.

        A reader sees the old content or the new one, which is on the disk before the name leads to it. The
        permissions are those of the file that was there, or else the usual ones; or a `mode`. Not promised:
        that the change of name survives a power failure at once.
        """
        self._refuse_link(place)
        opened, name = self._home(place, make=True)
        above = os.dup(opened)
        beside = f".{name}.{os.urandom(8).hex()}{PARTIAL}"
        try:
            descriptor = os.open(beside, _NEW_FILE, 0o600, dir_fd=above)
            with os.fdopen(descriptor, "wb") as file:
                yield file
                file.flush()
                os.fchmod(descriptor, _usual_mode(above, name) if mode is None else mode)
                if sync:
                    os.fsync(descriptor)
            os.rename(beside, name, src_dir_fd=above, dst_dir_fd=above)
        except BaseException:
            with suppress(FileNotFoundError):
                os.unlink(beside, dir_fd=above)
            raise
        finally:
            os.close(above)

    def write(self, place: str, content: bytes, *, mode: int | None = None) -> None:
        """Replace a file, or make it, as `replacing` does."""
        with self.replacing(place, mode=mode) as file:
            file.write(content)

    def offer(self, place: str, content: bytes) -> None:
        """Make a file whole, unless something is in its place already."""
        above, name = self._home(place, make=True)
        beside = f".{name}.{os.urandom(8).hex()}{PARTIAL}"
        descriptor = os.open(beside, _NEW_FILE, 0o644, dir_fd=above)
        try:
            with os.fdopen(descriptor, "wb") as file:
                file.write(content)
            with suppress(FileExistsError):
                os.link(beside, name, src_dir_fd=above, dst_dir_fd=above)
        finally:
            os.unlink(beside, dir_fd=above)

    def make_folder(self, place: str) -> None:
        """Make a folder. Raises `FileExistsError`."""
        above, name = self._home(place, make=True)
        os.mkdir(name, 0o755, dir_fd=above)

    def delete(self, place: str) -> None:
        """Remove a file or a link, if it is there, and then the folders above it that are empty."""
        with suppress(FileNotFoundError, CannotWrite):
            above, name = self._home(place)
            os.unlink(name, dir_fd=above)
            self.prune(place.rpartition("/")[0])

    def remove_tree(self, place: str) -> None:
        """Remove what is in a place, a folder with all that it holds."""
        with suppress(FileNotFoundError, NotADirectoryError, CannotWrite):
            self._clear(place, self.folder(place.rpartition("/")[0]))

    def prune(self, place: str) -> None:
        """Remove a folder if it is empty, and then the ones above it, except for those that have to stay."""
        while place and not self._stays(place):
            above, _, name = place.rpartition("/")
            try:
                self._close_below(place)
                os.rmdir(name, dir_fd=self.folder(above))
            except OSError:
                return
            place = above

    def _stays(self, place: str) -> bool:
        """Whether a folder is kept although it is empty."""
        return not place

    def _blocked(self, above: int, name: str, place: str, *, make: bool) -> None:
        """Refuse anything in the place of a folder; subclasses may remove it instead."""
        del above, name, make
        path = self.root / place
        leads = [f"it leads to {path.readlink()}"] if path.is_symlink() else ["it is a file"]
        raise CannotWrite(
            f"{path} is not a folder, and nothing is written through it",
            because=leads,
            note="remove it, or name another folder",
        )

    def _home(self, place: str, *, make: bool = False) -> tuple[int, str]:
        """The opened folder that holds a place, and the place's name in it."""
        above, _, name = place.rpartition("/")
        return self.folder(above, make=make), name

    def _opened(self, above: int, name: str, place: str, *, make: bool) -> int:
        """A folder inside an opened one."""
        try:
            return os.open(name, _FOLDER | os.O_NOFOLLOW, dir_fd=above)
        except FileNotFoundError:
            if not make:
                raise
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            self._blocked(above, name, place, make=make)
        with suppress(FileExistsError):  # somebody else was faster
            os.mkdir(name, 0o755, dir_fd=above)
        return os.open(name, _FOLDER | os.O_NOFOLLOW, dir_fd=above)

    def _refuse_link(self, place: str) -> None:
        """Refuse to replace a link: what it leads to is what somebody wants to be written."""
        if not self._mode(place, stat.S_ISLNK):
            return
        path = self.root / place
        there, copy = quoted(str(path)), quoted(f"{path}.copy")
        raise CannotWrite(
            f"{path} is a link, and nothing is written through links",
            because=[f"it leads to {path.readlink()}"],
            remedy=f"cp {there} {copy} && mv {copy} {there}",
        )

    def _mode(self, place: str, is_kind: Callable[[int], bool]) -> bool:
        """Whether something of this kind is in a place."""
        try:
            above, name = self._home(place)
            return is_kind(os.lstat(name, dir_fd=above).st_mode)
        except (FileNotFoundError, CannotWrite):
            return False

    def _clear(self, place: str, folder: int) -> None:
        """Remove whatever is in a place, with all that it holds; `folder` is the opened one above."""
        name = place.rpartition("/")[2]
        try:
            mode = os.lstat(name, dir_fd=folder).st_mode
        except FileNotFoundError:
            return
        if stat.S_ISDIR(mode):
            import shutil  # here: what is made again has nothing to clear

            self._close_below(place)
            shutil.rmtree(name, dir_fd=folder)
        else:
            os.unlink(name, dir_fd=folder)

    def _close_below(self, place: str) -> None:
        """Close the descriptors of a folder and those below it before it is removed."""
        for known in [path for path in self._open if path == place or path.startswith(f"{place}/")]:
            os.close(self._open.pop(known))


def _usual_mode(above: int, name: str) -> int:
    """The permissions of a file in an opened folder, or those of a new one."""
    try:
        return os.lstat(name, dir_fd=above).st_mode & 0o777
    except FileNotFoundError:
        return 0o644


def parted(path: Path, below: Path | None = None) -> tuple[Path, str]:
    """A path as a folder that is there and believed, and the rest, in which no link is followed.

    What lies `below` a folder, as it is written, is a place in that one. Else the folders above it that are
    there are the user's own.
    """
    whole = Path(os.path.abspath(path))  # noqa: PTH100 - without following links
    anchor = below if below is not None and below in whole.parents else whole.parent
    while not anchor.exists() and anchor != anchor.parent:
        anchor = anchor.parent
    return anchor, whole.relative_to(anchor).as_posix()
