"""Reading files: regular ones only, and never more than a bound.

Whatever a project, an environment or a store holds may be a pipe that never ends or a device. This module
stands below all layers but the errors, so that each of them can read through it.
"""

import errno
import os
import stat
from io import BufferedReader

__all__ = ["open_regular", "read_regular"]

_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK  # a pipe must not keep whoever opens it


def open_regular(path: "str | os.PathLike[str]") -> BufferedReader:
    """Open a file for reading. Raises `OSError`, also where it is no regular file."""
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):  # noqa: PTH116 - opening a device may set it going
            raise _refused(path, "it is no regular file")
        descriptor = os.open(path, _FLAGS)
    except ValueError as error:  # a NUL in the name
        raise _refused(path, str(error)) from error
    file = os.fdopen(descriptor, "rb")
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        file.close()
        raise _refused(path, "it is no regular file")
    return file


def read_regular(path: "str | os.PathLike[str]", *, most: int) -> bytes:
    """A file's content. Raises `OSError`, also where it is no regular file or larger than `most` bytes."""
    with open_regular(path) as file:
        content = file.read(most + 1)
    if len(content) > most:
        raise _refused(path, f"it is larger than {most} bytes")
    return content


def _refused(path: "str | os.PathLike[str]", why: str) -> OSError:
    return OSError(errno.EINVAL, why, os.fspath(path))
