"""A wheel (PEP 427) → a folder with its files, each checked against the wheel's own `RECORD`."""

import errno
import hashlib
import os
import stat
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import BinaryIO

import msgspec

from rabbet.errors import IntegrityFailed
from rabbet.formats.record import RecordRow, read_record

__all__ = ["StoredFile", "stored_files", "unpack_wheel"]

_CHUNK = 1 << 20
_UNSUSPICIOUS = 100_000_000  # bytes
_MOST_PACKED = 200  # times
_UNRECORDED = ("RECORD", "RECORD.jws", "RECORD.p7s")


class StoredFile(msgspec.Struct, frozen=True):
    """One unpacked file. `path` is relative with forward slashes, `size` in bytes, `changed` in ns."""

    path: str
    sha256: str
    size: int
    changed: int
    executable: bool


def unpack_wheel(wheel: Path, tree: Path) -> tuple[StoredFile, ...]:
    """Unpack into a folder that does not exist yet.

    Raises `IntegrityFailed` for an archive that can't be read, for members that would land outside the
    folder or are no plain files, and for content that `RECORD` does not vouch for.
    """
    try:
        with zipfile.ZipFile(wheel) as archive:
            members = [member for member in archive.infolist() if not member.is_dir()]
            for member in members:
                _check_member(member, wheel.name)
            _check_size(members, wheel)
            record = _record(archive, members, wheel.name)
            return tuple(_unpack(archive, member, tree, record, wheel.name) for member in members)
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError) as error:
        raise IntegrityFailed(f"{wheel.name} is no readable wheel", because=[str(error)]) from error
    except (FileExistsError, NotADirectoryError, IsADirectoryError) as error:
        place = os.path.relpath(error.filename, tree)
        reason = f"{place} would be written twice (some file systems take A and a for the same)"
        raise IntegrityFailed(f"{wheel.name} holds two files of one name", because=[reason]) from error


def stored_files(tree: Path) -> Iterator[StoredFile]:
    """What the files of a tree are now; none where there is no tree."""
    for path in sorted(tree.rglob("*")):
        if path.is_file():
            state = path.stat()
            yield StoredFile(
                path=path.relative_to(tree).as_posix(),
                sha256=hashlib.sha256(path.read_bytes()).hexdigest(),
                size=state.st_size,
                changed=state.st_mtime_ns,
                executable=False,
            )


def _check_member(member: zipfile.ZipInfo, wheel: str) -> None:
    path = PurePosixPath(member.filename)
    kind = stat.S_IFMT(member.external_attr >> 16)
    outside = path.is_absolute() or ".." in path.parts or "\\" in member.filename or not path.parts
    if outside or ":" in path.parts[0]:
        raise IntegrityFailed(f"{wheel} holds a file that would land outside", because=[member.filename])
    if kind not in (0, stat.S_IFREG):
        raise IntegrityFailed(f"{wheel} holds something that is no plain file", because=[member.filename])


def _check_size(members: list[zipfile.ZipInfo], wheel: Path) -> None:
    """Code and data pack to a tenth, seldom to a hundredth; what packs better is meant to fill the disk."""
    size = sum(member.file_size for member in members)
    if size > _UNSUSPICIOUS and size > _MOST_PACKED * wheel.stat().st_size:
        raise IntegrityFailed(
            f"{wheel.name} unpacks to more than any wheel should",
            because=[f"{wheel.stat().st_size} bytes hold {size}"],
        )


def _record(archive: zipfile.ZipFile, members: list[zipfile.ZipInfo], wheel: str) -> Mapping[str, RecordRow]:
    folders = {member.filename.partition("/")[0] for member in members}
    infos = [folder for folder in folders if folder.endswith(".dist-info")]
    if len(infos) != 1:
        raise IntegrityFailed(f"{wheel} holds {len(infos)} .dist-info folders in place of one", because=infos)
    try:
        rows = read_record(archive.read(f"{infos[0]}/RECORD").decode("utf-8"))
    except (KeyError, ValueError) as error:
        raise IntegrityFailed(f"{wheel} has no readable RECORD", because=[str(error)]) from error
    unrecorded = {f"{infos[0]}/{name}": RecordRow(f"{infos[0]}/{name}") for name in _UNRECORDED}
    return {row.path: row for row in rows} | unrecorded


def _new_file(path: str) -> BinaryIO:
    """A file that was not there, in a folder that may be new."""
    try:
        return open(path, "xb", buffering=0)  # noqa: PTH123 - thousands of places, as texts
    except FileNotFoundError:
        os.makedirs(path.rpartition("/")[0], exist_ok=True)  # noqa: PTH103 - as above
        return open(path, "xb", buffering=0)  # noqa: PTH123 - as above


def _unpack(
    archive: zipfile.ZipFile,
    member: zipfile.ZipInfo,
    tree: Path,
    record: Mapping[str, RecordRow],
    wheel: str,
) -> StoredFile:
    """Write one file while hashing it."""
    row = record.get(member.filename)
    if row is None:
        raise IntegrityFailed(
            f"{wheel} holds a file that its RECORD does not list", because=[member.filename]
        )
    target, digest = f"{tree}/{member.filename}", hashlib.sha256()
    executable = bool(member.external_attr >> 16 & 0o111)
    with archive.open(member) as source, _new_file(target) as file:
        while piece := source.read(_CHUNK):
            digest.update(piece)
            file.write(piece)
        os.fchmod(file.fileno(), 0o755 if executable else 0o644)
        state = os.fstat(file.fileno())
    if state.st_size < member.file_size:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), target)
    lied = row.size not in (None, member.file_size)
    if lied or row.sha256 not in (None, digest.hexdigest()):
        raise IntegrityFailed(f"{wheel} holds a file that is not what its RECORD says", because=[row.path])
    return StoredFile(
        path=member.filename,
        sha256=digest.hexdigest(),
        size=state.st_size,
        changed=state.st_mtime_ns,
        executable=executable,
    )
