"""Atomic file writes: the old content or the new, never half of it."""

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from rabbet.core.limits import MOST_UNANNOUNCED
from rabbet.disk.guarded import GuardedFolder, parted
from rabbet.errors import CannotWrite

__all__ = [
    "cannot_write",
    "copied_hashed",
    "put_back_on_failure",
    "write_bytes",
    "write_hashed",
    "write_text",
]


def write_text(path: Path, text: str, below: Path | None = None) -> None:
    """Write a text as `write_bytes` does. Raises `CannotWrite`."""
    write_bytes(path, text.encode("utf-8"), below)


def write_bytes(path: Path, content: bytes, below: Path | None = None) -> None:
    """Replace a file's content, or make it, so that a reader sees the old content or the new one.

    The content is on the disk before the name points to it; permissions of an old file are kept. Nothing is
    written through a link in the file's place, and where the file lies `below` a folder, through none on the
    way from there. Raises `CannotWrite`.
    """
    with cannot_write(path):
        anchor, place = parted(path, below)
        with GuardedFolder(anchor) as folder:
            folder.write(place, content)


def write_hashed(
    path: Path, content: Iterable[bytes], *, algorithm: str, most: int | None
) -> tuple[str, int]:
    """Write a new file piece by piece, and give its digest and size; it should have `most` so many bytes.

    What is longer is cut short: it is another file for sure, and may have no end. Raises `CannotWrite`, and
    what `content` raises.
    """
    with cannot_write(path), path.open("xb") as file:
        return copied_hashed(file, content, algorithm=algorithm, most=most)


def copied_hashed(
    file: BinaryIO, content: Iterable[bytes], *, algorithm: str, most: int | None
) -> tuple[str, int]:
    """The same with an opened file. Raises `OSError`, and what `content` raises."""
    import hashlib

    digest, size = hashlib.new(algorithm), 0
    for piece in content:
        digest.update(piece)
        size += len(piece)
        file.write(piece)
        if size > (MOST_UNANNOUNCED if most is None else most):
            break
    return digest.hexdigest(), size


@contextmanager
def put_back_on_failure(files: Iterable[Path], new: Callable[[], Iterable[Path]]) -> Iterator[None]:
    """Link files under a second name, and restore them when something is raised.

    That takes no space, so a full disk does not prevent it. `new` tells the files that may have come into
    being: those go. What is killed leaves the second names, which the next run takes over. Raises
    `CannotWrite`.
    """
    aside = {path: path.with_name(f".{path.name}.before") for path in files if path.is_file()}
    try:
        for path, kept in aside.items():
            with cannot_write(kept):
                kept.unlink(missing_ok=True)
                kept.hardlink_to(path)
        yield
    except BaseException:
        for path, kept in aside.items():
            if kept.exists() and not kept.samefile(path):
                kept.replace(path)
        for path in set(new()) - aside.keys():
            path.unlink()
        raise
    finally:
        for kept in aside.values():
            kept.unlink(missing_ok=True)


@contextmanager
def cannot_write(path: Path) -> Iterator[None]:
    """Turn a system's error about this path into `CannotWrite`."""
    try:
        yield
    except OSError as error:
        named = error.filename if isinstance(error.filename, str) and error.filename.startswith("/") else path
        raise CannotWrite(
            f"{named} can't be written",
            because=[error.strerror or str(error)],
            note="check the permissions and the space on the disk",
        ) from error
