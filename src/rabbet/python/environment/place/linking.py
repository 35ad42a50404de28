"""Place files of the store into an environment: reflink, hard link or copy.

A reflink shares the content until one of the two is written to: an edit stays in the environment. A hard link
shares it for good: an edit reaches the store, which notices (`store.Unpacked.intact`). A copy shares nothing;
users may ask for that.
"""

import errno
import fcntl
import os
from collections.abc import Callable, Iterable

from rabbet.disk.folder import opened_folder

__all__ = ["Linking"]

_FICLONE = 0x40049409  # the number of Linux's request to share a file's content (ioctl_ficlone(2))


class Linking:
    """Links files; a method that the file system refused once is not tried again.

    Targets are names in an opened folder, which must not be there yet (else `FileExistsError`).
    """

    def __init__(self, *, share: bool = True) -> None:
        self._ways: list[Callable[[str, int, str], None]] = [_reflink, _hard_link, _copy]
        if not share:
            self._ways.remove(_hard_link)

    def put(self, stored: str, folder: int, name: str) -> None:
        """Put a file of the store into a folder. Raises `OSError`."""
        while True:
            try:
                return self._ways[0](stored, folder, name)
            except FileExistsError:
                raise
            except OSError as error:
                if error.errno == errno.EMLINK:  # this one file has as many links as it can
                    return _copy(stored, folder, name)
                if len(self._ways) == 1 or error.errno in (errno.ENOSPC, errno.EDQUOT, errno.ENOENT):
                    raise
                del self._ways[0]

    def put_all(self, stored: str, folder: int, names: Iterable[str]) -> None:
        """Put files of one folder of the store into another one, under their names. Raises `OSError`."""
        with opened_folder(stored) as source:
            for name in names:
                if self._ways[0] is not _hard_link or not _linked(name, source, folder):
                    self.put(f"{stored}/{name}", folder, name)


def _linked(name: str, source: int, folder: int) -> bool:
    """Make a hard link to a file of an opened folder in another one; whether that could be done."""
    try:
        os.link(name, name, src_dir_fd=source, dst_dir_fd=folder, follow_symlinks=False)
    except OSError:
        return False
    return True


def _hard_link(stored: str, folder: int, name: str) -> None:
    os.link(stored, name, dst_dir_fd=folder, follow_symlinks=False)


def _reflink(stored: str, folder: int, name: str) -> None:
    with open(stored, "rb") as source:  # noqa: PTH123 - tens of thousands of places, as texts
        _made(source.fileno(), folder, name, lambda file: fcntl.ioctl(file, _FICLONE, source.fileno()))


def _copy(stored: str, folder: int, name: str) -> None:
    import shutil  # here: links can do without what it imports

    def copy(file: int) -> None:
        with os.fdopen(os.dup(file), "wb") as target:
            shutil.copyfileobj(source, target, 1 << 20)

    with open(stored, "rb") as source:  # noqa: PTH123 - as above
        _made(source.fileno(), folder, name, copy)


def _made(stored: int, folder: int, name: str, fill: Callable[[int], object]) -> None:
    """Make a file, fill it, and give it the permissions and the time of the stored one; or leave none."""
    file = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=folder)
    try:
        fill(file)
        state = os.fstat(stored)
        os.fchmod(file, state.st_mode & 0o777)
        os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))
    except BaseException:
        os.unlink(name, dir_fd=folder)
        raise
    finally:
        os.close(file)
