"""A folder → one archive, the same bytes for the same content: `.tar.gz` or `.zip`."""

import gzip
import tarfile
import zipfile
from pathlib import Path

from rabbet.store.atomic import cannot_write

__all__ = ["ENDINGS", "pack_folder"]

ENDINGS = (".tar.gz", ".tgz", ".zip")
_DAY = (2020, 1, 1, 0, 0, 0)


def pack_folder(folder: Path, archive: Path) -> None:
    """Pack all files of a folder, under the archive's own name; it appears when it is whole.

    Owners and times are left out, and files are in the order of their names. Raises `CannotWrite`.
    """
    name = archive.name
    for ending in ENDINGS:
        name = name.removesuffix(ending)
    files = sorted(
        (path.relative_to(folder).as_posix(), path) for path in folder.rglob("*") if path.is_file()
    )
    partial = archive.with_name(f".{archive.name}.partial")
    with cannot_write(archive):
        try:
            if archive.name.endswith(".zip"):
                _zip(partial, name, files)
            else:
                _tar(partial, name, files)
            partial.replace(archive)
        finally:
            partial.unlink(missing_ok=True)


def _tar(path: Path, name: str, files: list[tuple[str, Path]]) -> None:
    with (
        path.open("wb") as raw,
        gzip.GzipFile(filename="", fileobj=raw, mode="wb", compresslevel=1, mtime=0) as packed,
        tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar,
    ):
        for place, source in files:
            member = tarfile.TarInfo(f"{name}/{place}")
            member.size, member.mode = source.stat().st_size, 0o644
            with source.open("rb") as file:
                tar.addfile(member, file)


def _zip(path: Path, name: str, files: list[tuple[str, Path]]) -> None:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        for place, source in files:
            entry = zipfile.ZipInfo(f"{name}/{place}", _DAY)
            entry.external_attr = 0o644 << 16
            with source.open("rb") as file, archive.open(entry, "w") as into:
                while piece := file.read(1 << 20):
                    into.write(piece)
