"""A folder → one archive, the same bytes for the same content: `.tar.gz` or `.zip`."""

import gzip
import tarfile
import zipfile
from pathlib import Path
from typing import BinaryIO

from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder, parted

__all__ = ["ENDINGS", "pack_folder"]

ENDINGS = (".tar.gz", ".tgz", ".zip")
_DAY = (2020, 1, 1, 0, 0, 0)


def pack_folder(folder: Path, archive: Path, below: Path | None = None) -> None:
    """Pack all files of a folder, under the archive's own name; it appears when it is whole.

    Where the archive lies `below` a folder, no link is followed on the way from there.

    Owners and times are left out, and files are in the order of their names. Raises `CannotWrite`.
    """
    name = archive.name
    for ending in ENDINGS:
        name = name.removesuffix(ending)
    files = sorted(
        (path.relative_to(folder).as_posix(), path) for path in folder.rglob("*") if path.is_file()
    )
    with cannot_write(archive):
        anchor, place = parted(archive, below)
        with GuardedFolder(anchor) as above, above.replacing(place) as into:
            (_zip if archive.name.endswith(".zip") else _tar)(into, name, files)


def _tar(raw: BinaryIO, name: str, files: list[tuple[str, Path]]) -> None:
    with (
        gzip.GzipFile(filename="", fileobj=raw, mode="wb", compresslevel=1, mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar,
    ):
        for place, source in files:
            member = tarfile.TarInfo(f"{name}/{place}")
            member.size, member.mode = source.stat().st_size, 0o644
            with source.open("rb") as file:
                tar.addfile(member, file)


def _zip(raw: BinaryIO, name: str, files: list[tuple[str, Path]]) -> None:
    with zipfile.ZipFile(raw, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        for place, source in files:
            entry = zipfile.ZipInfo(f"{name}/{place}", _DAY)
            entry.external_attr = 0o644 << 16
            with source.open("rb") as file, archive.open(entry, "w") as into:
                while piece := file.read(1 << 20):
                    into.write(piece)
