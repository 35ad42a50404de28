"""An archive of a runtime or of sources (tar.*, zip, wheel) → a folder with its files and links.

Nothing lands outside the folder, links stay inside it, and what unpacks to far more than an archive should is
refused. Files keep nothing but the bit that says whether they can be run.
"""

import errno
import os
import posixpath
import stat
import tarfile
import zipfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath
from typing import IO, Literal

from msgspec import Struct

from rabbet.archives.places import lands_outside
from rabbet.archives.streams import BLOCK, unpacked
from rabbet.archives.zip_reading import BROKEN_ZIP, opened_zip
from rabbet.core.limits import LONGEST_LINE, MOST_ROWS
from rabbet.disk.regular_file import open_regular
from rabbet.errors import IntegrityFailed

__all__ = ["MOST_UNPACKED", "unpack_archive"]

_CHUNK = 1 << 20  # bytes that are written at once
MOST_UNPACKED = 2_000_000_000  # bytes: a JDK has 400 MB, a toolchain with its documentation 1.5 GB
_MOST_PACKED = 50  # times


class _Member(Struct, frozen=True, kw_only=True):
    """A file of an archive, or a link: `target` is where a link leads, or which file a hard link is."""

    place: str
    kind: Literal["file", "folder", "link", "hard link"]
    target: str = ""
    executable: bool = False
    content: IO[bytes] | None = None


def unpack_archive(archive: Path, tree: Path, *, most: int = MOST_UNPACKED, writable: bool = False) -> None:
    """Unpack into a folder that does not exist yet; `most` so many bytes, or 50 times what is packed.

    The files are read-only, unless they are to be `writable`.

    Raises `IntegrityFailed` for an archive that can't be read or holds what must not be unpacked, and
    `OSError`.
    """
    most = max(most, archive.stat().st_size * _MOST_PACKED)
    with _readable(archive.name), open_regular(archive) as file:
        tree.mkdir(parents=True)
        if archive.name.endswith((".zip", ".whl")):
            with opened_zip(file) as opened:
                _put(_of_zip(opened, most), tree, archive.name, writable=writable)
        else:
            with (
                unpacked(file, archive.name, most) as stream,
                tarfile.open(fileobj=stream, mode="r|", bufsize=BLOCK) as tar,
            ):
                _put(_of_tar(tar), tree, archive.name, writable=writable)


@contextmanager
def _readable(name: str) -> Iterator[None]:
    """Tell what the libraries for archives raise as `IntegrityFailed`."""
    try:
        yield
    except (tarfile.TarError, *BROKEN_ZIP) as error:
        raise IntegrityFailed(f"{name} is not a readable archive", because=[str(error)]) from error
    except (FileExistsError, NotADirectoryError, IsADirectoryError) as error:
        raise IntegrityFailed(f"{name} holds two files of one name", because=[str(error.filename)]) from error
    except OSError as error:
        if error.errno is not None:
            raise
        raise IntegrityFailed(f"{name} can't be unpacked", because=[str(error)]) from error


def _of_tar(archive: tarfile.TarFile) -> Iterator[_Member]:
    for member in archive:
        if member.isreg():
            content = archive.extractfile(member)
            executable = bool(member.mode & 0o111)
            yield _Member(place=member.name, kind="file", executable=executable, content=content)
        elif member.isdir():
            yield _Member(place=member.name, kind="folder")
        elif member.issym():
            yield _Member(place=member.name, kind="link", target=member.linkname)
        elif member.islnk():
            yield _Member(place=member.name, kind="hard link", target=member.linkname)
        else:
            raise IntegrityFailed(
                "the archive holds something that is neither a file, a folder nor a link",
                because=[member.name[:LONGEST_LINE]],
            )


def _of_zip(archive: zipfile.ZipFile, most: int) -> Iterator[_Member]:
    if sum(member.file_size for member in archive.infolist()) > most:
        raise OSError("it unpacks to more than any archive should")
    for member in archive.infolist():
        mode = member.external_attr >> 16
        if member.is_dir():
            yield _Member(place=member.filename, kind="folder")
        elif stat.S_ISLNK(mode):
            yield _Member(place=member.filename, kind="link", target=_short(archive, member))
        elif stat.S_IFMT(mode) not in (0, stat.S_IFREG):
            raise IntegrityFailed(
                "the archive holds something that is neither a file, a folder nor a link",
                because=[member.filename],
            )
        else:
            with _open(archive, member) as content:
                yield _Member(
                    place=member.filename, kind="file", executable=bool(mode & 0o111), content=content
                )


def _open(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> IO[bytes]:
    try:
        return archive.open(member)
    except OSError as error:
        raise zipfile.BadZipFile(f"{member.filename}: {error}") from error


def _short(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> str:
    """Where a link in a zip archive leads: its content."""
    with _open(archive, member) as content:
        return next(_pieces(content, LONGEST_LINE), b"").decode("utf-8")


def _pieces(content: IO[bytes], size: int = _CHUNK) -> Iterator[bytes]:
    """A member's content in pieces of this size. Raises `ValueError` where it can't be read."""
    try:
        while piece := content.read(size):
            yield piece
    except OSError as error:
        raise ValueError(str(error)) from error


def _put(members: Iterable[_Member], tree: Path, name: str, *, writable: bool) -> None:
    """Write all members; links come last, so that nothing is written through one."""
    links: dict[str, str] = {}
    written: set[str] = set()
    for number, member in enumerate(members):
        if number > MOST_ROWS:
            raise IntegrityFailed(f"{name} holds more files than any archive should: over {MOST_ROWS}")
        place = _place(member.place, name)
        if place == ".":
            continue
        if place in written or place in links:
            raise IntegrityFailed(f"{name} holds two files of one name", because=[place])
        path = tree / place
        if member.kind == "folder":
            path.mkdir(parents=True, exist_ok=True)
        elif member.kind == "link":
            links[place] = _inside(place, member.target, name)
        else:
            path.parent.mkdir(parents=True, exist_ok=True)
            written.add(place)
            if member.kind == "file":
                _write(member, path, writable=writable)
            elif (target := _place(member.target, name)) in written - {place}:
                path.hardlink_to(tree / target)
            else:
                raise IntegrityFailed(f"{name} holds a link to what is not in it", because=[place])
    for place, target in links.items():
        (tree / place).parent.mkdir(parents=True, exist_ok=True)
        (tree / place).symlink_to(target)
    _check_links(tree, links, name)


def _write(member: _Member, path: Path, *, writable: bool) -> None:
    with path.open("xb") as file:
        for piece in _pieces(member.content) if member.content else ():
            if file.write(piece) < len(piece):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
        os.fchmod(file.fileno(), (0o555 if member.executable else 0o444) | (0o200 if writable else 0))


def _place(text: str, name: str) -> str:
    """Where a member goes, relative to the folder. Raises `IntegrityFailed` for a place outside."""
    if lands_outside(text):
        raise IntegrityFailed(f"{name} holds a file that would land outside", because=[text[:LONGEST_LINE]])
    return PurePosixPath(text).as_posix()


def _inside(place: str, target: str, name: str) -> str:
    """Where a link leads. Raises `IntegrityFailed` if that is outside."""
    led = posixpath.normpath(posixpath.join(posixpath.dirname(place), target))
    if not target or "\0" in target or posixpath.isabs(target) or led.startswith(".."):
        raise IntegrityFailed(f"{name} holds a link that leads outside", because=[f"{place} → {target}"])
    return target


def _check_links(tree: Path, links: Iterable[str], name: str) -> None:
    """Links may lead through each other: what counts is where each one really ends."""
    root = os.path.realpath(tree)
    for place in links:
        real = os.path.realpath(tree / place)
        if real != root and not real.startswith(f"{root}/"):
            raise IntegrityFailed(f"{name} holds a link that leads outside", because=[place])
