"""Putting the store's files into an environment, in the cheapest way that the file systems allow.

A reflink shares the content until one of the two is written to: an edit stays in the environment. A hard link
shares it for good: an edit reaches the store, which notices (`store.Unpacked.intact`). A copy shares nothing.
"""

import errno
import fcntl
import os
from collections.abc import Callable, Iterable

from rabbet.environment.folder import opened_folder

__all__ = ["Linking"]

_FICLONE = 0x40049409  # the number of Linux's request to share a file's content (ioctl_ficlone(2))


class Linking:
    """Links one file after the other; what failed once for the file system is not tried again."""

    def __init__(self) -> None:
        self._ways: list[Callable[[str, str], None]] = [_reflink, os.link, _copy]

    def put(self, stored: str, target: str) -> None:
        """Put a file of the store into its place; what is there already gives way. Raises `OSError`."""
        while True:
            try:
                return self._ways[0](stored, target)
            except FileExistsError:
                os.unlink(target)  # noqa: PTH108 - tens of thousands of places, as texts
            except OSError as error:
                if error.errno == errno.EMLINK:  # this one file has as many links as it can
                    return _copy(stored, target)
                if len(self._ways) == 1 or error.errno in (errno.ENOSPC, errno.EDQUOT, errno.ENOENT):
                    raise
                del self._ways[0]

    def put_all(self, stored: str, target: str, names: Iterable[str]) -> None:
        """Put files of one folder of the store into another one, under their names. Raises `OSError`."""
        with opened_folder(stored) as source, opened_folder(target) as home:
            for name in names:
                if self._ways[0] is not os.link or not _linked(name, source, home):
                    self.put(f"{stored}/{name}", f"{target}/{name}")


def _linked(name: str, source: int, home: int) -> bool:
    """Make a hard link to a file of an opened folder in another one; whether that could be done."""
    try:
        os.link(name, name, src_dir_fd=source, dst_dir_fd=home)
    except OSError:
        return False
    return True


def _reflink(stored: str, target: str) -> None:
    with open(stored, "rb") as source, open(target, "xb") as file:  # noqa: PTH123 - as above
        try:
            fcntl.ioctl(file.fileno(), _FICLONE, source.fileno())
        except BaseException:
            os.unlink(target)  # noqa: PTH108 - as above
            raise
    import shutil  # here: hard links can do without what it imports

    shutil.copystat(stored, target)


def _copy(stored: str, target: str) -> None:
    import shutil

    if os.path.lexists(target):
        raise FileExistsError(errno.EEXIST, os.strerror(errno.EEXIST), target)
    shutil.copy2(stored, target)
