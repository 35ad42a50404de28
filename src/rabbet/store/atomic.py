"""Atomic file writes: the old content or the new, never half of it."""

import os
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from rabbet.core.limits import MOST_UNANNOUNCED
from rabbet.errors import CannotWrite

__all__ = ["cannot_write", "put_back_on_failure", "write_hashed", "write_text"]


def write_text(path: Path, text: str) -> None:
    """Replace a file's content, or make it, so that a reader sees the old text or the new one.

    The content is on the disk before the name points to it; permissions of an old file are kept. Nothing is
    written through a link, which may lead anywhere. What is not promised: that the change of name survives a
    power failure at once.

    Raises `CannotWrite`.
    """
    import tempfile  # here: the lightest runs write nothing

    from rabbet.core.shell import quoted

    if path.is_symlink():
        there, copy = quoted(str(path)), quoted(f"{path}.copy")
        raise CannotWrite(
            f"{path} is a link, and nothing is written through links",
            because=[f"it leads to {path.readlink()}"],
            remedy=f"cp {there} {copy} && mv {copy} {there}",
        )
    with cannot_write(path):
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o644
        descriptor, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(descriptor, "wb") as file:
                file.write(text.encode("utf-8"))
                file.flush()
                os.fsync(file.fileno())
            Path(temporary).chmod(mode)
            Path(temporary).replace(path)
        except BaseException:
            with suppress(OSError):
                Path(temporary).unlink()
            raise


def write_hashed(
    path: Path, content: Iterable[bytes], *, algorithm: str, most: int | None
) -> tuple[str, int]:
    """Write a new file piece by piece, and give its digest and size; it should have `most` so many bytes.

    What is longer is cut short: it is another file for sure, and may have no end. Raises `CannotWrite`, and
    what `content` raises.
    """
    import hashlib

    digest, size = hashlib.new(algorithm), 0
    with cannot_write(path), path.open("xb") as file:
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
        raise CannotWrite(
            f"{error.filename or path} can't be written",
            because=[error.strerror or str(error)],
            note="check the permissions and the space on the disk",
        ) from error
