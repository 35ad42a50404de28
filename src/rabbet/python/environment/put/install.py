"""Installing an unpacked wheel by linking its files from the store (PEP 427, PEP 376, PEP 627).

First it is worked out where everything goes; then it is put there. Environments have tens of thousands of
files, so places are plain texts here: relative to the environment, with forward slashes.
"""

import hashlib
import json
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from rabbet.core.limits import MOST_METADATA
from rabbet.disk.atomic import cannot_write
from rabbet.disk.regular_file import read_regular
from rabbet.errors import IntegrityFailed
from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.install_state import Origin
from rabbet.python.environment.place.layout import INSTALLER, MADE_BY_INSTALLERS, Layout
from rabbet.python.environment.put.scripts import command_script, with_head
from rabbet.python.formats.entry_points import read_commands
from rabbet.python.formats.record import RecordRow, write_record
from rabbet.python.store.entries import Unpacked

__all__ = [
    "InstallPlan",
    "PlannedFile",
    "Provenance",
    "install_wheel",
    "installed_unchanged",
    "planned_install",
    "record_content",
    "record_rows",
]


class PlannedFile(NamedTuple):
    """A file of the environment: linked from the store, or (`linked` is `None`) written with `content`.

    A `compiled` module follows from another file, so two libraries may bring different ones for the same.
    """

    place: str
    sha256: str
    size: int
    linked: str | None = None
    content: bytes = b""
    executable: bool = False
    compiled: bool = False


class Provenance(NamedTuple):
    """Where a library came from: its wheel's hash, and its place if no source lists it (PEP 610).

    Of one that was built on this machine, `build` is the digest of what its build followed from.
    """

    wheel: str
    direct_url: Mapping[str, object] | None = None
    build: str = ""


class InstallPlan(NamedTuple):
    """All that installing one wheel puts into an environment, but `RECORD`, which goes into `info`."""

    info: str
    provenance: Provenance
    placed: tuple[PlannedFile, ...]

    @property
    def stated(self) -> list[tuple[str, str | None]]:
        """Where its files go, and their digests, but for those of compiled modules."""
        return [(file.place, None if file.compiled else file.sha256) for file in self.placed]


def planned_install(
    unpacked: Unpacked,
    layout: Layout,
    provenance: Provenance,
    *,
    compiled: Unpacked | None = None,
    requested: bool,
) -> InstallPlan:
    """Work out where a wheel's files go; nothing is touched.

    `compiled` are its modules as the environment's runtime compiles them. `requested` notes that the
    declaration names the library.

    Raises `IntegrityFailed` for a wheel that may not be installed so.
    """
    info = next(file.path.partition("/")[0] for file in unpacked.files if _is_record(file.path))
    own = f"{layout.site_packages}/{info}"
    placed = list(_compiled(compiled, layout, info))
    compiled_here = {file.place for file in placed}  # some wheels bring such files along
    placed += (file for file in _own_files(unpacked, layout, info) if file.place not in compiled_here)
    placed += _commands(unpacked, layout, info)
    placed.append(_made(f"{own}/INSTALLER", f"{INSTALLER}\n".encode()))
    if requested:
        placed.append(_made(f"{own}/REQUESTED", b""))
    if provenance.direct_url is not None:
        placed.append(_made(f"{own}/direct_url.json", json.dumps(provenance.direct_url).encode()))
    placed.sort(key=lambda planned: planned.place == f"{own}/METADATA")
    _refuse_doubles(info, [f"{own}/RECORD", *(file.place for file in placed)])
    return InstallPlan(info=info, provenance=provenance, placed=tuple(placed))


def _refuse_doubles(info: str, places: list[str]) -> None:
    """Raise `IntegrityFailed` where one file would be written over another one of the same wheel."""
    seen: set[str] = set()
    for place in places:
        if place in seen:
            raise IntegrityFailed(f"{info} would write one file twice", because=[place])
        seen.add(place)


def record_content(prepared: InstallPlan, layout: Layout) -> bytes:
    """The `RECORD` of a library that is installed so."""
    rows = record_rows(prepared, layout).values()
    return write_record([*rows, RecordRow(f"{prepared.info}/RECORD")]).encode()


def record_rows(prepared: InstallPlan, layout: Layout) -> dict[str, RecordRow]:
    """The rows of that, but for its own, by the places that they mean."""
    return {
        placed.place: RecordRow(layout.in_record(placed.place), placed.sha256, placed.size, "sha256")
        for placed in prepared.placed
    }


def installed_unchanged(unpacked: Unpacked, layout: Layout, info: str) -> Iterator[tuple[str, RecordRow]]:
    """The files of a wheel that any installer leaves as they are, by their places (PEP 427).

    `info` is the wheel's `.dist-info` folder. Commands get another first line, and some files of `info` are
    written by the installer itself.
    """
    for file in unpacked.files:
        place = layout.destination(file.path, info)
        if place and layout.stays_as_in_wheel(place, info):
            yield place, RecordRow(layout.in_record(place), file.sha256, file.size, "sha256")


def install_wheel(prepared: InstallPlan, guarded: GuardedEnvironment) -> Origin:
    """Put everything into its place.

    `RECORD` comes first and `METADATA` last, so that an installation that was cut short is seen as damaged,
    with a list of all that has to be removed. Raises `CannotWrite`.
    """
    layout = guarded.layout
    record = record_content(prepared, layout)
    with cannot_write(layout.root):
        guarded.put_file(f"{layout.site_packages}/{prepared.info}/RECORD", record)
        for placed in prepared.placed:
            if placed.linked is None:
                guarded.put_file(placed.place, placed.content, executable=placed.executable)
            else:
                guarded.put(placed.linked, placed.place)
    provenance, digest = prepared.provenance, hashlib.sha256(record).hexdigest()
    return Origin(wheel=provenance.wheel, record=digest, build=provenance.build, info=prepared.info)


def _own_files(unpacked: Unpacked, layout: Layout, info: str) -> Iterator[PlannedFile]:
    made_here = {f"{info}/{name}" for name in MADE_BY_INSTALLERS}
    tree = str(unpacked.tree)
    for file in unpacked.files:
        if file.path in made_here:
            continue
        place = layout.destination(file.path, info)
        if place is None:
            raise _misplaced(info, file.path)
        if place.startswith("bin/"):
            content = with_head((unpacked.tree / file.path).read_bytes())
            yield _made(place, content, executable=True)
        else:
            yield PlannedFile(place, file.sha256, file.size, f"{tree}/{file.path}")


def _compiled(compiled: Unpacked | None, layout: Layout, info: str) -> Iterator[PlannedFile]:
    for file in compiled.files if compiled else ():
        place = layout.destination(file.path, info)
        if place is not None and compiled is not None:
            yield PlannedFile(place, file.sha256, file.size, f"{compiled.tree}/{file.path}", compiled=True)


def _commands(unpacked: Unpacked, layout: Layout, info: str) -> Iterator[PlannedFile]:
    entry_points = unpacked.tree / info / "entry_points.txt"
    if not entry_points.is_file():
        return
    try:
        commands = read_commands(read_regular(entry_points, most=MOST_METADATA).decode("utf-8"))
    except (OSError, ValueError) as error:
        raise IntegrityFailed(f"{info} has entry points that can't be read", because=[str(error)]) from error
    for command in commands:
        place = f"bin/{command.name}"
        if not layout.may_hold(place):
            raise _misplaced(info, command.name)
        yield _made(place, command_script(command), executable=True)


def _misplaced(info: str, path: str) -> IntegrityFailed:
    return IntegrityFailed(
        f"{info} would write where it owns nothing",
        because=[f"{path}: a part of the environment, or of another library"],
    )


def _is_record(path: str) -> bool:
    return path.endswith(".dist-info/RECORD") and path.count("/") == 1


def _made(place: str, content: bytes, *, executable: bool = False) -> PlannedFile:
    digest = hashlib.sha256(content).hexdigest()
    return PlannedFile(place, digest, len(content), content=content, executable=executable)
