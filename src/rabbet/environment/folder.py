"""A folder opened once for many files: the system finds each of them without walking down to it again."""

import os
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["opened_folder"]


@contextmanager
def opened_folder(folder: str) -> Iterator[int]:
    """A folder's descriptor, for functions that take a `dir_fd`. Raises `OSError`."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        yield descriptor
    finally:
        os.close(descriptor)
