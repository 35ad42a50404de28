"""Wheels of Rabbet and of what it needs, made of what is installed here.

They serve the platform and the version of Python that this Rabbet runs with. The same installation gives the
same bytes.
"""

from collections.abc import Iterator
from contextlib import suppress
from importlib.metadata import Distribution, PackageNotFoundError, distribution
from pathlib import Path

from packaging.requirements import InvalidRequirement

import rabbet
from rabbet.archives.pack import Packed, write_zip
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.errors import EnvironmentFailed
from rabbet.python.formats.record import with_record

__all__ = ["own_needs", "own_wheels"]

_OF_INSTALLATION = ("RECORD", "INSTALLER", "REQUESTED", "direct_url.json")  # files that no wheel has


def own_needs() -> tuple[Need, ...]:
    """Rabbet's own requirements. Raises `EnvironmentFailed` where it is not installed as a library."""
    return tuple(need for need in _needs(_installed("rabbet")) if need.marker is None)


def own_wheels(folder: Path, *, alone: bool) -> list[tuple[str, Path]]:
    """Make the wheels in a folder, Rabbet's `alone` or those of what it needs too; names, and where they are.

    Raises `EnvironmentFailed`, `OSError`.
    """
    made = []
    for needed in [_installed("rabbet")] if alone else _needed():
        name = _wheel_name(needed)
        _write(folder / name, dict(_contents(needed)), needed)
        made.append((name, folder / name))
    return sorted(made)


def _needed() -> list[Distribution]:
    """Rabbet's distribution, and those that it needs here, directly or not."""
    found: dict[str, Distribution] = {}
    waiting = ["rabbet"]
    while waiting:
        name = library_name(waiting.pop())
        if name in found:
            continue
        found[name] = _installed(name)
        needs = _needs(found[name])
        waiting += [need.name for need in needs if need.marker is None or need.marker.evaluate({"extra": ""})]
    return [found[name] for name in sorted(found)]


def _installed(name: str) -> Distribution:
    try:
        return distribution(name)
    except PackageNotFoundError as error:
        raise EnvironmentFailed(
            "Rabbet itself can't be carried", because=[f"{name} is not installed as a library"]
        ) from error


def _needs(distribution: Distribution) -> list[Need]:
    found = []
    for text in distribution.requires or ():
        with suppress(InvalidRequirement):
            found.append(Need.parse(text))
    return found


def _wheel_name(distribution: Distribution) -> str:
    """Its file's name, with all tags that it was installed under (PEP 427)."""
    tags = [
        line.partition(":")[2].strip().split("-")
        for line in (distribution.read_text("WHEEL") or "Tag: py3-none-any").splitlines()
        if line.startswith("Tag:")
    ]
    parts = [".".join(dict.fromkeys(tag[place] for tag in tags)) for place in range(3)]
    name = library_name(distribution.metadata["Name"]).replace("-", "_")
    return "-".join([name, distribution.version, *parts]) + ".whl"


def _contents(distribution: Distribution) -> Iterator[tuple[str, bytes]]:
    """The files that a wheel would have brought."""
    info = f"{library_name(distribution.metadata['Name']).replace('-', '_')}-{distribution.version}.dist-info"
    own = library_name(distribution.metadata["Name"]) == "rabbet"
    if own:  # wherever it lies: it may be installed in editable form
        root = Path(rabbet.__file__).parent
        for path in sorted(root.rglob("*")):
            if path.is_file() and "__pycache__" not in path.parts:
                yield f"rabbet/{path.relative_to(root).as_posix()}", path.read_bytes()
    for file in distribution.files or ():
        place = file.as_posix()
        inside = ".dist-info/" in place
        outside = place.startswith(("..", "/")) or "__pycache__" in place
        if outside or file.name in _OF_INSTALLATION or (own and not inside):
            continue
        path = Path(str(distribution.locate_file(file)))
        if path.is_file():
            yield f"{info}/{place.partition('.dist-info/')[2]}" if inside else place, path.read_bytes()


def _write(path: Path, contents: dict[str, bytes], distribution: Distribution) -> None:
    """Write an archive with these files and their record."""
    info = f"{library_name(distribution.metadata['Name']).replace('-', '_')}-{distribution.version}.dist-info"
    members = (Packed(place, body) for place, body in with_record(contents, info))
    write_zip(path, members, level=1)  # it is unpacked once, and made at each carrying
