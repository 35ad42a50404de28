"""A wheel (PEP 427) → a folder with its files, each checked against the wheel's own `RECORD`."""

import errno
import hashlib
import os
import stat
import zipfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

from packaging.version import InvalidVersion, Version

from rabbet.archives.places import lands_outside
from rabbet.archives.zip_reading import BROKEN_ZIP, opened_zip
from rabbet.core.limits import LONGEST_LINE, MOST_METADATA, MOST_ROWS
from rabbet.core.needs.names import library_name
from rabbet.core.shell import quoted
from rabbet.disk.regular_file import open_regular
from rabbet.errors import IntegrityFailed
from rabbet.python.choosing.file_name import BadFileName, parse_wheel_name
from rabbet.python.formats.record import STRONG, RecordRow, read_record
from rabbet.store.trees import StoredFile

__all__ = ["digests_in", "recorded_in", "stored_files", "unpack_wheel"]

_CHUNK = 1 << 20
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC | os.O_NOFOLLOW
_UNSUSPICIOUS = 100_000_000  # bytes
_MOST_PACKED = 200  # times
_UNRECORDED = ("RECORD", "RECORD.jws", "RECORD.p7s")
_FIRST_MOMENT, _MOMENTS = 946_684_800, 631_152_000  # seconds: 2000-01-01, and 20 years
_READABLE, _RUNNABLE = 0o444, 0o555  # nobody writes into a file that environments share


def unpack_wheel(wheel: Path, tree: Path) -> tuple[StoredFile, ...]:
    """Unpack into a folder that does not exist yet; the files are read-only, and their times tell nothing.

    Raises `IntegrityFailed` for an archive that can't be read or is of another form than this, for members
    that would land outside the folder or are no plain files, and for content that `RECORD` does not vouch
    for. The wheel's own hash has to be right: what is wrong then is the release.
    """
    with _told_of_release(wheel), _opened(wheel, tree) as archive:
        members = _members(archive, wheel)
        record = _record(archive, members, wheel.name)
        return tuple(_unpack(archive, member, tree, record, wheel.name) for member in members)


def digests_in(wheel: Path) -> Mapping[str, str]:
    """The digests of a wheel's files by their places, read from itself. Raises `IntegrityFailed`."""
    with _opened(wheel, wheel.parent) as archive:
        found = {}
        for member in _members(archive, wheel):
            digest = hashlib.sha256()
            for piece in _pieces(archive, member):
                digest.update(piece)
            found[member.filename] = digest.hexdigest()
        return found


def recorded_in(wheel: Path) -> Mapping[str, RecordRow]:
    """The rows of a wheel's own `RECORD`, by place. Raises `IntegrityFailed`."""
    with _opened(wheel, wheel.parent) as archive:
        members = _members(archive, wheel)
        record = _record(archive, members, wheel.name)
        names = (member.filename for member in members)
        return {name: record.get(name, RecordRow(name)) for name in names}


@contextmanager
def _told_of_release(wheel: Path) -> Iterator[None]:
    """Tell what is wrong with a wheel as an error of its release, with the limit that keeps that one out."""
    try:
        yield
    except IntegrityFailed as error:
        try:
            named = parse_wheel_name(wheel.name)
        except BadFileName:
            raise error from None
        limit = quoted(f"{named.name}!={named.version}")
        raise IntegrityFailed(
            str(error),
            because=error.because,
            note="the hash of the wheel is right, so the release itself is wrong",
            remedy=f"rabbet declare --limit {limit} && rabbet resolve",
        ) from error


@contextmanager
def _opened(wheel: Path, tree: Path) -> Iterator[zipfile.ZipFile]:
    """A wheel's archive; all that is wrong with it is told as `IntegrityFailed`."""
    try:
        with open_regular(wheel) as file, opened_zip(file) as archive:
            yield archive
    except BROKEN_ZIP as error:
        raise IntegrityFailed(f"{wheel.name} is not a readable wheel", because=[str(error)]) from error
    except (FileExistsError, NotADirectoryError, IsADirectoryError) as error:
        place = os.path.relpath(error.filename, tree)
        reason = f"{place} would be written twice (some file systems take A and a for the same)"
        raise IntegrityFailed(f"{wheel.name} holds two files of one name", because=[reason]) from error


def stored_files(tree: Path) -> Iterator[StoredFile]:
    """The present files of a tree, which are made read-only; none without a tree."""
    for path in sorted(tree.rglob("*")):
        if path.is_file():
            path.chmod(_READABLE)
            content = path.read_bytes()
            yield StoredFile(
                path=path.relative_to(tree).as_posix(),
                sha256=hashlib.sha256(content).hexdigest(),
                size=len(content),
            )


def _members(archive: zipfile.ZipFile, wheel: Path) -> list[zipfile.ZipInfo]:
    """The files of an archive, if all of them may be unpacked."""
    members = [member for member in archive.infolist() if not member.is_dir()]
    if len(members) > MOST_ROWS:
        raise IntegrityFailed(f"{wheel.name} holds more files than any wheel should: {len(members)}")
    for member in members:
        _check_member(member, wheel.name)
    _check_size(members, wheel)
    return members


def _check_member(member: zipfile.ZipInfo, wheel: str) -> None:
    kind = stat.S_IFMT(member.external_attr >> 16)
    if lands_outside(member.filename) or set(member.filename.split("/")) <= {"", "."}:
        name = member.filename[:LONGEST_LINE]
        raise IntegrityFailed(f"{wheel} holds a file that would land outside", because=[name])
    if kind not in (0, stat.S_IFREG):
        raise IntegrityFailed(f"{wheel} holds something that is not a plain file", because=[member.filename])


def _check_size(members: list[zipfile.ZipInfo], wheel: Path) -> None:
    """Code and data pack to a tenth, seldom to a hundredth; what packs better is meant to fill the disk."""
    size = sum(member.file_size for member in members)
    if size > _UNSUSPICIOUS and size > _MOST_PACKED * wheel.stat().st_size:
        raise IntegrityFailed(
            f"{wheel.name} unpacks to more than any wheel should",
            because=[f"{wheel.stat().st_size} bytes hold {size}"],
        )


def _record(archive: zipfile.ZipFile, members: list[zipfile.ZipInfo], wheel: str) -> Mapping[str, RecordRow]:
    """The rows of a wheel's `RECORD` by place; the wheel must match its name."""
    folders = {member.filename.partition("/")[0] for member in members}
    infos = [folder for folder in folders if folder.endswith(".dist-info")]
    if len(infos) != 1:
        raise IntegrityFailed(f"{wheel} holds {len(infos)} .dist-info folders in place of one", because=infos)
    info = infos[0]
    _check_name(info, wheel)
    _check_form(_small(archive, f"{info}/WHEEL", wheel), wheel)
    try:
        rows = read_record(_small(archive, f"{info}/RECORD", wheel).decode("utf-8"))
    except ValueError as error:
        raise IntegrityFailed(f"{wheel} has no readable RECORD", because=[str(error)]) from error
    unrecorded = {f"{info}/{name}": RecordRow(f"{info}/{name}") for name in _UNRECORDED}
    recorded = {row.path: row for row in rows}
    for path, row in recorded.items():
        if path not in unrecorded and row.algorithm not in STRONG:
            raise IntegrityFailed(
                f"the RECORD of {wheel} has no hash of a file that can be trusted",
                because=[f"{path}: {row.algorithm or 'none'}"],
            )
    return recorded | unrecorded


def _small(archive: zipfile.ZipFile, place: str, wheel: str) -> bytes:
    """One of the texts that every wheel has."""
    try:
        member = archive.getinfo(place)
    except KeyError as error:
        raise IntegrityFailed(f"{wheel} has no {place}") from error
    if member.file_size > MOST_METADATA * 10:
        raise IntegrityFailed(f"{place} of {wheel} is larger than any should be")
    return b"".join(_pieces(archive, member))


def _check_name(info: str, wheel: str) -> None:
    """Hold the name of the `.dist-info` folder against the wheel's (PEP 427)."""
    name, _, version = info.removesuffix(".dist-info").rpartition("-")
    try:
        named = parse_wheel_name(wheel)
        same = (library_name(name), Version(version)) == (named.name, named.version)
    except (BadFileName, InvalidVersion):
        same = False
    if not same:
        raise IntegrityFailed(f"{wheel} holds another library than its name says", because=[info])


def _check_form(content: bytes, wheel: str) -> None:
    """Whether this is a form of wheels that is known here (`Wheel-Version`)."""
    lines = content.decode("utf-8", "replace").splitlines()
    told = next(
        (line.partition(":")[2].strip() for line in lines if line.lower().startswith("wheel-version:")), ""
    )
    if told.partition(".")[0] != "1":
        raise IntegrityFailed(
            f"{wheel} is a wheel of a form that this Rabbet does not know",
            because=[f"Wheel-Version: {told or 'not told'}"],
        )


def _pieces(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> Iterator[bytes]:
    """The content of a file of an archive. Raises `BadZipFile` where it can't be read."""
    try:
        with archive.open(member) as source:
            while piece := source.read(_CHUNK):
                yield piece
    except OSError as error:
        raise zipfile.BadZipFile(f"{member.filename}: {error}") from error


def _new_file(path: str, mode: int) -> int:
    """A descriptor of a file that was not there, in a folder that may be new."""
    try:
        return os.open(path, _NEW, mode)
    except FileNotFoundError:
        os.makedirs(path.rpartition("/")[0], exist_ok=True)  # noqa: PTH103 - thousands of places, as texts
        return os.open(path, _NEW, mode)


def _moment_of(digest: bytes) -> int:
    """The time of a file, in seconds since the epoch: the same for the same content, and never in the future.

    A compiled module notes its source's time. So libraries that share a source share what it compiles to, and
    what was compiled from another source is known to be out of date.
    """
    return _FIRST_MOMENT + int.from_bytes(digest[:4], "big") % _MOMENTS


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
    other = hashlib.new(row.algorithm) if row.algorithm not in ("", "sha256") else digest
    received, mode = 0, _RUNNABLE if member.external_attr >> 16 & 0o111 else _READABLE
    descriptor = _new_file(target, mode)
    try:
        for piece in _pieces(archive, member):
            received += len(piece)
            digest.update(piece)
            if other is not digest:
                other.update(piece)
            os.write(descriptor, piece)
        state = os.fstat(descriptor)
        if stat.S_IMODE(state.st_mode) != mode:  # the user keeps new files from others
            os.fchmod(descriptor, mode)
        moment = _moment_of(digest.digest())
        os.utime(descriptor, (moment, moment))
    finally:
        os.close(descriptor)
    if state.st_size < received:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), target)
    lied = row.size not in (None, received)
    if lied or row.digest not in (None, other.hexdigest()):
        raise IntegrityFailed(f"{wheel} holds a file that is not what its RECORD says", because=[row.path])
    return StoredFile(path=member.filename, sha256=digest.hexdigest(), size=received)
