"""Installing an unpacked wheel by linking its files from the store (PEP 427, PEP 376, PEP 627)."""

import hashlib
import json
import os
import shutil
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from rabbet.environment.layout import Layout
from rabbet.environment.scripts import command_script, with_head
from rabbet.environment.stamp import Origin
from rabbet.errors import IntegrityFailed
from rabbet.formats.entry_points import read_commands
from rabbet.formats.record import RecordRow, write_record
from rabbet.store.atomic import cannot_write
from rabbet.store.store import Unpacked

__all__ = ["install_wheel", "wheel_places"]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Placed:
    """A file of the environment: linked from the store, or (`linked` is `None`) written with `content`."""

    place: PurePosixPath
    sha256: str
    size: int
    linked: Path | None = None
    content: bytes = b""
    executable: bool = False


def install_wheel(
    unpacked: Unpacked,
    layout: Layout,
    *,
    compiled: Unpacked | None = None,
    wheel_sha256: str,
    requested: bool,
    direct_url: str | None = None,
) -> Origin:
    """Put a wheel's files into the environment.

    `compiled` are its modules as the environment's runtime compiles them. `requested` notes that the
    declaration names the library, `direct_url` the address it names it by (PEP 610).

    `RECORD` comes first and `METADATA` last, so that an installation that was cut short is seen as damaged,
    with a list of all that has to be removed.

    Raises `IntegrityFailed` for a wheel that may not be installed so, `CannotWrite`.
    """
    info = _info(unpacked)
    placed = list(_placed(unpacked, layout, info, requested=requested))
    if direct_url is not None:
        origin = {"url": direct_url, "archive_info": {"hashes": {"sha256": wheel_sha256}}}
        place = PurePosixPath(layout.site_packages, info, "direct_url.json")
        placed.append(_made(place, json.dumps(origin).encode(), executable=False))
    placed.sort(key=lambda one: one.place.name == "METADATA" and one.place.parent.name == info)
    record_place = PurePosixPath(layout.site_packages, info, "RECORD")
    rows = [RecordRow(layout.in_record(one.place), one.sha256, one.size) for one in placed]
    by_products = list(_compiled(compiled, layout)) if compiled else []
    rows += [RecordRow(layout.in_record(one.place)) for one in by_products]  # Python may write them anew
    placed = [*by_products, *placed]
    record = write_record([*rows, RecordRow(layout.in_record(record_place))]).encode()
    with cannot_write(layout.root):
        folders = {one.place.parent for one in placed} | {record_place.parent}
        for folder in sorted(folders):
            link = layout.link_above(layout.root / folder / "file")
            if link is not None:
                link.unlink()
            (layout.root / folder).mkdir(parents=True, exist_ok=True)
        _write(layout.root / record_place, record, executable=False)
        for one in placed:
            if one.linked is None:
                _write(layout.root / one.place, one.content, executable=one.executable)
            else:
                _link(one.linked, layout.root / one.place)
    return Origin(wheel=wheel_sha256, record=hashlib.sha256(record).hexdigest())


def wheel_places(unpacked: Unpacked, layout: Layout) -> list[tuple[str, str]]:
    """Where a wheel's files and commands go, and their digests. Raises `IntegrityFailed`."""
    placed = _placed(unpacked, layout, _info(unpacked), requested=False)
    return [(str(one.place), one.sha256) for one in placed]


def _placed(unpacked: Unpacked, layout: Layout, info: str, *, requested: bool) -> Iterator[_Placed]:
    """Everything that the installation consists of, but `RECORD`."""
    for file in unpacked.files:
        if _is_record(file.path) or file.path in (f"{info}/RECORD.jws", f"{info}/RECORD.p7s"):
            continue
        place = layout.destination(file.path)
        if place is None:
            raise IntegrityFailed(f"{info} would replace a part of the environment", because=[file.path])
        stored = unpacked.tree / file.path
        if place.parent == PurePosixPath("bin"):
            yield _made(place, with_head(stored.read_bytes()), executable=True)
        else:
            yield _Placed(place=place, sha256=file.sha256, size=file.size, linked=stored)
    entry_points = unpacked.tree / info / "entry_points.txt"
    if entry_points.is_file():
        try:
            commands = read_commands(entry_points.read_text(encoding="utf-8"))
        except ValueError as error:
            raise IntegrityFailed(
                f"{info} has entry points that can't be read", because=[str(error)]
            ) from error
        for command in commands:
            place = layout.destination(f"x.data/scripts/{command.name}")
            if place is None:
                raise IntegrityFailed(
                    f"{info} would replace a part of the environment", because=[command.name]
                )
            yield _made(place, command_script(command), executable=True)
    yield _made(PurePosixPath(layout.site_packages, info, "INSTALLER"), b"rabbet\n", executable=False)
    if requested:
        yield _made(PurePosixPath(layout.site_packages, info, "REQUESTED"), b"", executable=False)


def _compiled(compiled: Unpacked, layout: Layout) -> Iterator[_Placed]:
    for file in compiled.files:
        place = layout.destination(file.path)
        if place is not None:
            stored = compiled.tree / file.path
            yield _Placed(place=place, sha256=file.sha256, size=file.size, linked=stored)


def _info(unpacked: Unpacked) -> str:
    return next(file.path.partition("/")[0] for file in unpacked.files if _is_record(file.path))


def _is_record(path: str) -> bool:
    return path.endswith(".dist-info/RECORD") and path.count("/") == 1


def _made(place: PurePosixPath, content: bytes, *, executable: bool) -> _Placed:
    digest = hashlib.sha256(content).hexdigest()
    return _Placed(place=place, sha256=digest, size=len(content), content=content, executable=executable)


def _link(stored: Path, target: Path) -> None:
    """A hard link where the file system can, else a copy; what is there already gives way."""
    with suppress(FileNotFoundError):
        target.unlink()
    try:
        os.link(stored, target)
    except OSError:
        shutil.copy2(stored, target)


def _write(target: Path, content: bytes, *, executable: bool) -> None:
    with suppress(FileNotFoundError):
        target.unlink()
    target.write_bytes(content)
    target.chmod(0o755 if executable else 0o644)
