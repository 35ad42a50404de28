"""A carried folder: all that a lock needs, laid out as a static index, with a manifest of hashes.

    manifest.json           every file with its digest and size, and for which lock they are
    files/DIGEST/NAME       wheels and source archives; DIGEST is the beginning of the file's sha256
    simple/NAME/index.html  pages that lead to them (PEP 503)
    runtimes/…              archives of runtimes, and the catalogue that offers them
    rabbet/…                Rabbet and what it needs, as wheels
    rabbet.py               runs that Rabbet

The same content gives the same bytes. What is there already, by its hash, is not written again.
"""

import hashlib
import html
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from importlib.resources import files
from pathlib import Path
from typing import NamedTuple

import msgspec
from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_TEXT_FILE, UNREADABLE
from rabbet.core.model.runtime import RuntimeArchive
from rabbet.disk.atomic import cannot_write, copied_hashed
from rabbet.disk.guarded import PARTIAL, GuardedFolder
from rabbet.disk.regular_file import read_regular, sha256_of_regular
from rabbet.errors import IntegrityFailed, NotUnderstood
from rabbet.net.local_file import read_pieces
from rabbet.python.choosing.file_name import parse_file_name

__all__ = [
    "MANIFEST",
    "CarriedFile",
    "CarriedManifest",
    "PackedFile",
    "Parcel",
    "Written",
    "archive_name",
    "read_manifest",
    "write_parcel",
]

MANIFEST = "manifest.json"
_SCHEMA = "rabbet.carried/1"
_STARTER = "rabbet.py"
_DIGITS = 16  # of a digest, in names of folders
_PLACE = re.compile(r"(files|runtimes|rabbet|simple)(/[^/]+)+|" + re.escape(_STARTER))


class CarriedFile(Struct, frozen=True, kw_only=True):
    """One file: its place in the folder, with forward slashes, its digest and its size in bytes."""

    path: str
    sha256: str
    size: int


class CarriedManifest(Struct, frozen=True, kw_only=True):
    """A carried folder's manifest: its project, the stamp of its lock, and its targets."""

    schema: str
    project: str
    lock: str
    targets: list[str]
    files: list[CarriedFile]


_DECODER = msgspec.json.Decoder(CarriedManifest)


class PackedFile(NamedTuple):
    """A file that is to be carried: its name, where it lies on this machine, and its digest."""

    name: str
    path: Path
    sha256: str

    @classmethod
    def of(cls, name: str, path: Path) -> "PackedFile":
        """A file whose digest nobody knows yet. Raises `OSError`."""
        return cls(name, path, sha256_of_regular(path))


class Parcel(Struct, frozen=True, kw_only=True):
    """The parts to be carried.

    `distributions` are wheels and source archives. Those of `rabbet` are Rabbet itself. `runtimes` come with
    the text of their `catalogue`; `pythons` tells what pages say of the Python a file needs.
    """

    project: str
    lock: str
    targets: tuple[str, ...]
    distributions: tuple[PackedFile, ...]
    pythons: Mapping[str, str]
    rabbet: tuple[PackedFile, ...]
    runtimes: tuple[PackedFile, ...]
    catalogue: str


class Written(Struct, frozen=True, kw_only=True):
    """How many files there are, how many were new, how many were taken away, and all their bytes."""

    files: int
    new: int
    gone: int
    size: int


def archive_name(archive: RuntimeArchive) -> str:
    """The file name of a runtime's archive in a carried folder."""
    return f"{archive.digest[:_DIGITS]}-{archive.filename}"


def read_manifest(folder: Path) -> CarriedManifest:
    """Read what a folder holds. Raises `NotUnderstood` where it is no carried folder."""
    try:
        content = read_regular(folder / MANIFEST, most=MOST_TEXT_FILE)
    except OSError as error:
        raise NotUnderstood(f"{folder} is not a carried folder", because=[f"{MANIFEST}: {error}"]) from error
    return _manifest(content, folder)


def _manifest(content: bytes, folder: Path) -> CarriedManifest:
    try:
        manifest = _DECODER.decode(content)
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotUnderstood(f"{folder} is not a carried folder", because=[f"{MANIFEST}: {error}"]) from error
    if manifest.schema != _SCHEMA:
        raise NotUnderstood(
            f"{folder} was carried by another version of Rabbet", because=[f"it says {manifest.schema}"]
        )
    for file in manifest.files:
        if file.path.startswith("/") or ".." in file.path.split("/"):
            raise IntegrityFailed(f"{MANIFEST} names a file outside its folder", because=[file.path])
    return manifest


def write_parcel(parcel: Parcel, folder: GuardedFolder, step: Callable[[str], None]) -> Written:
    """Bring a folder to hold just this; files are verified as they are copied.

    A run that is killed leaves a folder that the next one completes: the manifest comes first, empty, and is
    written again when all that it tells of is there. Of what an older manifest lists, only places of a
    carried folder are believed, and removed.

    Raises `CannotWrite`, `IntegrityFailed` for a file that changed on the way, `NotUnderstood` for a folder
    that holds something else.
    """
    with cannot_write(folder.root):
        kept = {file.path: file for file in _begun(parcel, folder) if _PLACE.fullmatch(file.path)}
        found: list[CarriedFile] = []
        new = 0
        for place, source in _places(parcel):
            file, copied = _put(folder, place, source, kept.get(place))
            found.append(file)
            new += copied
            step(place)
        for place, text in _texts(parcel):
            file, written = _put_text(folder, place, text, kept.get(place))
            found.append(file)
            new += written
        gone = kept.keys() - {file.path for file in found}
        for place in sorted(gone):
            folder.delete(place)
        _write_manifest(parcel, sorted(found, key=lambda file: file.path), folder)
    return Written(files=len(found), new=new, gone=len(gone), size=sum(file.size for file in found))


def _begun(parcel: Parcel, folder: GuardedFolder) -> list[CarriedFile]:
    """The folder's contents by its manifest; removes what a killed run left half copied."""
    names = folder.names()
    if MANIFEST not in names:
        if names:
            raise NotUnderstood(
                f"{folder.root} holds something else", because=["it is neither new nor empty"]
            )
        _write_manifest(parcel, [], folder)
    for place in [place for place in folder.files() if place.endswith(PARTIAL)]:
        folder.delete(place)
    return _manifest(folder.read(MANIFEST, most=MOST_TEXT_FILE), folder.root).files


def _write_manifest(parcel: Parcel, found: list[CarriedFile], folder: GuardedFolder) -> None:
    manifest = CarriedManifest(
        schema=_SCHEMA,
        project=parcel.project,
        lock=parcel.lock,
        targets=list(parcel.targets),
        files=found,
    )
    folder.write(MANIFEST, f"{json.dumps(msgspec.to_builtins(manifest), indent=1)}\n".encode())


def _places(parcel: Parcel) -> Iterator[tuple[str, PackedFile]]:
    """Where each file goes."""
    yield from (
        (f"files/{distribution.sha256[:_DIGITS]}/{distribution.name}", distribution)
        for distribution in parcel.distributions
    )
    yield from ((f"runtimes/{runtime.name}", runtime) for runtime in parcel.runtimes)
    yield from ((f"rabbet/{packed.name}", packed) for packed in parcel.rabbet)


def _put(
    folder: GuardedFolder, place: str, source: PackedFile, known: CarriedFile | None
) -> tuple[CarriedFile, bool]:
    """Copy a file, unless the very same lies there; whether it was copied."""
    file = CarriedFile(path=place, sha256=source.sha256, size=source.path.stat().st_size)
    if known == file and folder.holds(place, file.sha256):
        return file, False
    with folder.replacing(place, mode=0o644, sync=False) as target:
        pieces = read_pieces(source.path)
        if copied_hashed(target, pieces, algorithm="sha256", most=file.size) != (file.sha256, file.size):
            raise IntegrityFailed(
                f"{place} is not what was to be copied", because=["the disk may be damaged"]
            )
    return file, True


def _texts(parcel: Parcel) -> Iterator[tuple[str, str]]:
    """The files that are written here."""
    by_name: dict[NormalizedName, list[PackedFile]] = {}
    for distribution in parcel.distributions:
        by_name.setdefault(parse_file_name(distribution.name).name, []).append(distribution)
    for library, distributions in sorted(by_name.items()):
        links = [
            _link(distribution, parcel.pythons.get(distribution.name, ""))
            for distribution in sorted(distributions)
        ]
        yield f"simple/{library}/index.html", _page(library, links)
    names = [f'<a href="{name}/">{name}</a>' for name in sorted(by_name)]
    yield "simple/index.html", _page(parcel.project, names)
    if parcel.runtimes:
        yield "runtimes/catalogue.json", parcel.catalogue
    if parcel.rabbet:
        yield _STARTER, files("rabbet.exports").joinpath("start_carried.txt").read_text(encoding="utf-8")


def _link(file: PackedFile, python: str) -> str:
    needs = f' data-requires-python="{html.escape(python)}"' if python else ""
    place = f"../../files/{file.sha256[:_DIGITS]}/{file.name}#sha256={file.sha256}"
    return f'<a href="{html.escape(place)}"{needs}>{html.escape(file.name)}</a>'


def _page(title: str, links: Iterable[str]) -> str:
    body = "".join(f"{link}<br>\n" for link in links)
    head = f"<!DOCTYPE html>\n<html><head><title>{html.escape(title)}</title></head>"
    return f"{head}<body>\n{body}</body></html>\n"


def _put_text(
    folder: GuardedFolder, place: str, text: str, known: CarriedFile | None
) -> tuple[CarriedFile, bool]:
    """Write a text, unless it stands there; whether it was written."""
    content = text.encode()
    file = CarriedFile(path=place, sha256=hashlib.sha256(content).hexdigest(), size=len(content))
    if known == file and folder.holds(place, file.sha256):
        return file, False
    folder.write(place, content)
    return file, True
