"""Installing an unpacked wheel by linking its files from the store (PEP 427, PEP 376, PEP 627).

First it is worked out where everything goes; then it is put there. Environments have tens of thousands of
files, so places are plain texts here: relative to the environment, with forward slashes.
"""

import hashlib
import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from rabbet.environment.layout import Layout
from rabbet.environment.linking import Linking
from rabbet.environment.scripts import command_script, with_head
from rabbet.environment.signature import signature_of_files
from rabbet.environment.stamp import Origin
from rabbet.errors import IntegrityFailed
from rabbet.formats.entry_points import read_commands
from rabbet.formats.record import RecordRow, write_record
from rabbet.store.atomic import cannot_write
from rabbet.store.store import Unpacked

__all__ = ["Placed", "Prepared", "install_wheel", "prepare_wheel"]


class Placed(NamedTuple):
    """A file of the environment: linked from the store, or (`linked` is `None`) written with `content`.

    `changed` (ns) is when the stored file was written last. What Python itself may write anew is not
    `lasting`: it is recorded without hash and size.
    """

    place: str
    sha256: str
    size: int
    linked: str | None = None
    changed: int = 0
    content: bytes = b""
    executable: bool = False
    lasting: bool = True


class Prepared(NamedTuple):
    """All that installing one wheel puts into an environment, but `RECORD`, which goes into `info`."""

    info: str
    wheel: str
    placed: tuple[Placed, ...]

    @property
    def stated(self) -> list[tuple[str, str | None]]:
        """Where its files go, and the digests of those that are lasting."""
        return [(file.place, file.sha256 if file.lasting else None) for file in self.placed]


def prepare_wheel(
    unpacked: Unpacked,
    layout: Layout,
    *,
    compiled: Unpacked | None = None,
    wheel_sha256: str,
    requested: bool,
    direct_url: str | None = None,
) -> Prepared:
    """Work out where a wheel's files go; nothing is touched.

    `compiled` are its modules as the environment's runtime compiles them. `requested` notes that the
    declaration names the library, `direct_url` the address it names it by (PEP 610).

    Raises `IntegrityFailed` for a wheel that may not be installed so.
    """
    info = next(file.path.partition("/")[0] for file in unpacked.files if _is_record(file.path))
    own = f"{layout.site_packages}/{info}"
    placed = [
        *_compiled(compiled, layout),
        *_own_files(unpacked, layout, info),
        *_commands(unpacked, layout, info),
    ]
    placed.append(_made(f"{own}/INSTALLER", b"rabbet\n"))
    if requested:
        placed.append(_made(f"{own}/REQUESTED", b""))
    if direct_url is not None:
        origin = {"url": direct_url, "archive_info": {"hashes": {"sha256": wheel_sha256}}}
        placed.append(_made(f"{own}/direct_url.json", json.dumps(origin).encode()))
    placed.sort(key=lambda one: one.place == f"{own}/METADATA")
    return Prepared(info=info, wheel=wheel_sha256, placed=tuple(placed))


def install_wheel(prepared: Prepared, layout: Layout, linking: Linking) -> Origin:
    """Put everything into its place.

    `RECORD` comes first and `METADATA` last, so that an installation that was cut short is seen as damaged,
    with a list of all that has to be removed. Raises `CannotWrite`.
    """
    record_place = f"{layout.site_packages}/{prepared.info}/RECORD"
    rows = [
        RecordRow(layout.in_record(one.place), *((one.sha256, one.size) if one.lasting else ()))
        for one in prepared.placed
    ]
    record = write_record([*rows, RecordRow(layout.in_record(record_place))]).encode()
    root, states = str(layout.root), []
    with cannot_write(layout.root):
        folders = {os.path.dirname(one.place) for one in prepared.placed}  # noqa: PTH120 - places are texts
        for folder in sorted(folders):
            link = layout.link_above(layout.root / folder / "file")
            if link is not None:
                link.unlink()
            (layout.root / folder).mkdir(parents=True, exist_ok=True)
        _write(f"{root}/{record_place}", record, executable=False)
        for one in prepared.placed:
            if one.linked is None:
                changed = _write(f"{root}/{one.place}", one.content, executable=one.executable)
            else:
                changed = one.changed
                linking.put(one.linked, f"{root}/{one.place}")
            if one.lasting:
                states.append((layout.in_record(one.place), one.size, changed))
    digest = hashlib.sha256(record).hexdigest()
    return Origin(wheel=prepared.wheel, record=digest, state=signature_of_files(states))


def _own_files(unpacked: Unpacked, layout: Layout, info: str) -> Iterator[Placed]:
    unrecorded = (f"{info}/RECORD.jws", f"{info}/RECORD.p7s")
    tree = str(unpacked.tree)
    for file in unpacked.files:
        if _is_record(file.path) or file.path in unrecorded:
            continue
        place = layout.destination(file.path)
        if place is None:
            raise IntegrityFailed(f"{info} would replace a part of the environment", because=[file.path])
        if place.startswith("bin/"):
            content = with_head((unpacked.tree / file.path).read_bytes())
            yield _made(place, content, executable=True)
        else:
            yield Placed(place, file.sha256, file.size, f"{tree}/{file.path}", file.changed)


def _compiled(compiled: Unpacked | None, layout: Layout) -> Iterator[Placed]:
    for file in compiled.files if compiled else ():
        place = layout.destination(file.path)
        if place is not None and compiled is not None:
            stored = f"{compiled.tree}/{file.path}"
            yield Placed(place, file.sha256, file.size, stored, file.changed, lasting=False)


def _commands(unpacked: Unpacked, layout: Layout, info: str) -> Iterator[Placed]:
    entry_points = unpacked.tree / info / "entry_points.txt"
    if not entry_points.is_file():
        return
    try:
        commands = read_commands(entry_points.read_text(encoding="utf-8"))
    except ValueError as error:
        raise IntegrityFailed(f"{info} has entry points that can't be read", because=[str(error)]) from error
    for command in commands:
        place = layout.destination(f"x.data/scripts/{command.name}")
        if place is None:
            raise IntegrityFailed(f"{info} would replace a part of the environment", because=[command.name])
        yield _made(place, command_script(command), executable=True)


def _is_record(path: str) -> bool:
    return path.endswith(".dist-info/RECORD") and path.count("/") == 1


def _made(place: str, content: bytes, *, executable: bool = False) -> Placed:
    digest = hashlib.sha256(content).hexdigest()
    return Placed(place, digest, len(content), content=content, executable=executable)


def _write(target: str, content: bytes, *, executable: bool) -> int:
    """Write a file; when that was, in ns."""
    path = Path(target)
    path.unlink(missing_ok=True)
    path.write_bytes(content)
    path.chmod(0o755 if executable else 0o644)
    return path.stat().st_mtime_ns
