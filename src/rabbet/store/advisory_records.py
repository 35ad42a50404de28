"""The records of vulnerabilities in a folder, an archive (zip, tar) or a single file, one after the other."""

import errno
import os
import tarfile
import zlib
from collections.abc import Iterator
from pathlib import Path
from typing import IO, NamedTuple

from rabbet.archives.streams import CappedStream, unpacked
from rabbet.archives.zip_reading import BROKEN_ZIP, opened_zip
from rabbet.core.limits import MOST_ROWS
from rabbet.disk.regular_file import open_regular, read_regular
from rabbet.errors import SourceFailed
from rabbet.formats.osv import MOST_RECORD

__all__ = ["RecordsState", "records_in", "state_of_records"]

_ENDING = ".json"
_DEFLATED, _STORED = 8, 0
_LOCAL_HEADER = 30  # bytes, before a name and what is behind it (APPNOTE 4.3.7)
_MOST_UNPACKED = 5_000_000_000  # bytes: the largest real collections have 2 GB
_MANY = 2000  # files, whose states take some 30 ms to look at
_TOO_LARGE = b"{" + b" " * MOST_RECORD  # stands for a record that is larger than any should be


def records_in(place: Path) -> Iterator[tuple[str, bytes]]:
    """Each record's name and content. Raises `SourceFailed` where the place can't be read as a whole."""
    try:
        if place.is_dir():
            yield from _in_folder(place)
            return
        with open_regular(place) as file:
            first = file.read(512)
            file.seek(0)
            if first.startswith(b"PK"):
                yield from _in_zip(file)
            elif first.startswith(b"\x1f\x8b") or first[257:262] == b"ustar":
                yield from _in_tar(file, packed=first.startswith(b"\x1f\x8b"))
            else:
                yield place.name, file.read(MOST_RECORD + 1)
    except (OSError, tarfile.TarError, *BROKEN_ZIP) as error:
        told = error.strerror if isinstance(error, OSError) and error.strerror else str(error)
        raise SourceFailed(
            "records of vulnerabilities can't be read", because=[f"{place}: {told}"]
        ) from error


class RecordsState(NamedTuple):
    """The state of a place's files.

    The `digest` differs when a file does; one was last `written` at that time (seconds since the epoch).
    Where there are many files, `folders` are those that they lie in, with the times of their last change.
    """

    digest: str
    written: float
    folders: dict[str, int]


def state_of_records(place: Path) -> RecordsState:
    """The state of a place's files. Raises `OSError`."""
    from hashlib import blake2b

    found, digest = place.stat(), blake2b(digest_size=16)
    newest = found.st_mtime
    if not place.is_dir():
        return RecordsState(f"{found.st_size} {found.st_mtime_ns} {found.st_ino}", newest, {})
    waiting, folders = [str(place)], {}
    seen = count = 0
    while waiting:
        folder = waiting.pop()
        folders[folder] = os.stat(folder).st_mtime_ns  # noqa: PTH116 - as `os.scandir` takes it
        with os.scandir(folder) as entries:
            for entry in sorted(entries, key=_name):
                seen += 1
                if seen > MOST_ROWS:
                    raise OSError(errno.EFBIG, "it holds more files than any collection of records should")
                if entry.is_dir(follow_symlinks=False):
                    if entry.name[0] != ".":
                        waiting.append(entry.path)
                elif entry.name.endswith(_ENDING):
                    state, count = _state_of(entry), count + 1
                    newest = max(newest, state.st_mtime)
                    digest.update(
                        f"{entry.path}\0{state.st_size} {state.st_mtime_ns}\n".encode(errors="replace")
                    )
    return RecordsState(digest.hexdigest(), newest, folders if count > _MANY else {})


def _state_of(entry: "os.DirEntry[str]") -> os.stat_result:
    """The state of a file; of a link that leads nowhere, its own."""
    try:
        return entry.stat()
    except OSError:
        return entry.stat(follow_symlinks=False)


def _name(entry: "os.DirEntry[str]") -> str:
    return entry.name


def _in_folder(place: Path) -> Iterator[tuple[str, bytes]]:
    """The files that end as records do; folders that are hidden or behind links are not looked into."""
    waiting, count = [str(place)], 0
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in sorted(entries, key=_name):
                if entry.is_dir(follow_symlinks=False):
                    if entry.name[0] != ".":
                        waiting.append(entry.path)
                elif entry.name.endswith(_ENDING):
                    count += 1
                    _refuse_beyond(count)
                    try:
                        yield entry.name, read_regular(entry.path, most=MOST_RECORD)
                    except (OSError, ValueError):
                        yield entry.name, _TOO_LARGE if _is_large(entry) else b""


def _is_large(entry: "os.DirEntry[str]") -> bool:
    return entry.is_file() and entry.stat().st_size > MOST_RECORD


def _refuse_beyond(count: int) -> None:
    if count > MOST_ROWS:
        raise ValueError(f"it holds more records than any collection should: over {MOST_ROWS}")


def _in_zip(file: IO[bytes]) -> Iterator[tuple[str, bytes]]:
    """The members that end as records do, read without more ado: there are tens of thousands."""
    with opened_zip(file) as archive:
        members = [member for member in archive.infolist() if member.filename.endswith(_ENDING)]
        _refuse_beyond(len(members))
        if sum(min(member.file_size, MOST_RECORD) for member in members) > _MOST_UNPACKED:
            raise ValueError("it unpacks to more than any collection of records should")
        for member in sorted(members, key=lambda member: member.header_offset):
            if member.file_size > MOST_RECORD or member.compress_size > MOST_RECORD:
                yield member.filename, _TOO_LARGE
                continue
            file.seek(member.header_offset)
            header = file.read(_LOCAL_HEADER)
            before = int.from_bytes(header[26:28], "little") + int.from_bytes(header[28:30], "little")
            file.seek(before, os.SEEK_CUR)
            content = file.read(member.compress_size)
            if member.compress_type == _DEFLATED:
                unpacking = zlib.decompressobj(-zlib.MAX_WBITS)
                try:
                    content = unpacking.decompress(content, MOST_RECORD + 1)
                except zlib.error:
                    content = b""
            elif member.compress_type != _STORED:
                content = b""
            yield member.filename, content if zlib.crc32(content) == member.CRC else b""


def _in_tar(file: IO[bytes], *, packed: bool) -> Iterator[tuple[str, bytes]]:
    if packed:
        with unpacked(file, ".tar.gz", _MOST_UNPACKED) as stream:
            yield from _members(stream)
    else:
        yield from _members(CappedStream(file, _MOST_UNPACKED))  # type: ignore[arg-type]  # it is only read


def _members(stream: IO[bytes]) -> Iterator[tuple[str, bytes]]:
    count = 0
    with tarfile.open(fileobj=stream, mode="r|") as archive:
        for member in archive:
            count += 1
            _refuse_beyond(count)
            if member.isreg() and member.name.endswith(_ENDING):
                content = archive.extractfile(member) if member.size <= MOST_RECORD else None
                yield member.name, _TOO_LARGE if content is None else content.read()
