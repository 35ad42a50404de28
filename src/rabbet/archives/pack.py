"""Files → one archive (`.tar.gz`, `.zip`): the same bytes for the same content, no owners and times."""

import gzip
import io
import tarfile
import zipfile
from collections.abc import Iterable
from pathlib import Path
from typing import BinaryIO, NamedTuple, TypeAlias

from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder, parted

__all__ = ["ENDINGS", "Packed", "pack_folder", "write_tar", "write_zip"]

ENDINGS = (".tar.gz", ".tgz", ".zip")  # of what can be packed
Day: TypeAlias = tuple[int, int, int, int, int, int]
_CHUNK = 1 << 20  # bytes
_DAY: Day = (2020, 1, 1, 0, 0, 0)


class Packed(NamedTuple):
    """A member of an archive: a file with the content of a `source`, or a folder; or a link to a `target`."""

    place: str
    source: bytes | Path | None = None
    executable: bool = False
    target: str | None = None


def write_tar(raw: BinaryIO, members: Iterable[Packed], *, level: int, time: int = 0) -> None:
    """Write a `.tar.gz`, packed at a level of gzip; all members have one time (seconds since the epoch)."""
    with (
        gzip.GzipFile(filename="", fileobj=raw, mode="wb", compresslevel=level, mtime=time) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar,
    ):
        for entry in members:
            member = tarfile.TarInfo(entry.place)
            member.mtime = time
            if entry.target is not None:
                member.type, member.linkname, member.mode = tarfile.SYMTYPE, entry.target, 0o777
                tar.addfile(member)
            elif entry.source is None:
                member.type, member.mode = tarfile.DIRTYPE, 0o755
                tar.addfile(member)
            else:
                member.mode = 0o755 if entry.executable else 0o644
                with _opened(entry.source) as file:
                    member.size = file.seek(0, io.SEEK_END)
                    file.seek(0)
                    tar.addfile(member, file)


def write_zip(
    file: Path | BinaryIO, members: Iterable[Packed], *, level: int | None = None, day: Day = _DAY
) -> None:
    """Write a `.zip` of files: contents packed at a level of deflate, or stored, as files of the disk are."""
    method = zipfile.ZIP_STORED if level is None else zipfile.ZIP_DEFLATED
    with zipfile.ZipFile(file, "w") as archive:
        for member in members:
            entry = zipfile.ZipInfo(member.place, day)
            entry.external_attr = 0o644 << 16
            if isinstance(member.source, Path):
                entry.file_size = member.source.stat().st_size  # a large one has another form
                with member.source.open("rb") as content, archive.open(entry, "w") as into:
                    while piece := content.read(_CHUNK):
                        into.write(piece)
            else:
                archive.writestr(entry, member.source or b"", method, level)


def _opened(source: bytes | Path) -> BinaryIO:
    return io.BytesIO(source) if isinstance(source, bytes) else source.open("rb")


def pack_folder(folder: Path, archive: Path, below: Path | None = None) -> None:
    """Pack all files of a folder, under the archive's own name; it appears when it is whole.

    Where the archive lies `below` a folder, no link is followed on the way from there. Files are in the order
    of their names. Raises `CannotWrite`.
    """
    name = archive.name
    for ending in ENDINGS:
        name = name.removesuffix(ending)
    files = sorted(
        (path.relative_to(folder).as_posix(), path) for path in folder.rglob("*") if path.is_file()
    )
    members = (Packed(f"{name}/{place}", path) for place, path in files)
    with cannot_write(archive):
        anchor, place = parted(archive, below)
        with GuardedFolder(anchor) as above, above.replacing(place) as into:
            if archive.name.endswith(".zip"):
                write_zip(into, members)
            else:
                write_tar(into, members, level=1)
