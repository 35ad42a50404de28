"""Reading files: regular ones only, and never more than a bound.

Whatever a project, an environment or a store holds may be a pipe that never ends or a device. This module
stands below all layers but the errors, so that each of them can read through it.
"""

import errno
import hashlib
import os
import stat
from io import BufferedReader

__all__ = ["is_there", "open_regular", "read_regular", "sha256_of_regular"]

_PIECE = 1 << 18  # bytes that are read at once

_FLAGS = os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK  # opening a pipe must not block


def is_there(path: "str | os.PathLike[str]") -> bool:
    """Whether a file of that name is there; a text that no file can be named by is no error."""
    return os.path.isfile(path)  # noqa: PTH113 - `Path.is_file` raises where a name is too long


def open_regular(path: "str | os.PathLike[str]") -> BufferedReader:
    """Open a file for reading. Raises `OSError`, also where it is no regular file."""
    return os.fdopen(_opened(path), "rb")


def sha256_of_regular(path: "str | os.PathLike[str]") -> str:
    """A file's digest, in hexadecimal digits. Raises `OSError`, also where it is no regular file.

    The standard library's `file_digest` makes a large buffer for each file, which costs three times as much
    where there are ten thousand small ones.
    """
    digest = hashlib.sha256()
    descriptor = _opened(path)
    try:
        while piece := os.read(descriptor, _PIECE):
            digest.update(piece)
    finally:
        os.close(descriptor)
    return digest.hexdigest()


def _opened(path: "str | os.PathLike[str]") -> int:
    """A descriptor. Raises `OSError`."""
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):  # noqa: PTH116 - opening a device may set it going
            raise _refused(path, "it is not a regular file")
        descriptor = os.open(path, _FLAGS)
    except ValueError as error:  # a NUL in the name
        raise _refused(path, str(error)) from error
    if not stat.S_ISREG(os.fstat(descriptor).st_mode):
        os.close(descriptor)
        raise _refused(path, "it is not a regular file")
    return descriptor


def read_regular(path: "str | os.PathLike[str]", *, most: int) -> bytes:
    """A file's content. Raises `OSError`, also where it is no regular file or larger than `most` bytes."""
    with open_regular(path) as file:
        content = file.read(most + 1)
    if len(content) > most:
        raise _refused(path, f"it is larger than {most} bytes")
    return content


def _refused(path: "str | os.PathLike[str]", why: str) -> OSError:
    return OSError(errno.EINVAL, why, os.fspath(path))
