"""A made-up release → a wheel (PEP 427) or a source archive (PEP 643), the same bytes every time."""

import io
import json
from collections.abc import Iterable
from functools import cache
from pathlib import Path

from rabbet.archives.pack import Packed, write_tar, write_zip
from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.python.formats.record import with_record

__all__ = ["build_archive", "build_file", "metadata_of", "write_files"]

_DAY = (2026, 5, 1, 12, 0, 0)


@cache
def build_file(release: MadeUp) -> bytes:
    """The content of its file."""
    return _build_sdist(release) if release.sdist else _build_wheel(release)


def _build_sdist(release: MadeUp) -> bytes:
    contents = {
        "PKG-INFO": metadata_of(release),
        "pyproject.toml": _declaration(release),
        f"{release.name}.py": release.source(),
        **dict(release.more),
    }
    packed = io.BytesIO()
    members = [Packed(f"{release.stem}/{path}", text.encode()) for path, text in contents.items()]
    write_tar(packed, members, level=9)
    return packed.getvalue()


def _declaration(release: MadeUp) -> str:
    """The `pyproject.toml` of its source tree, built by `combwright`."""
    return (
        f'[build-system]\nrequires = ["combwright"]\nbuild-backend = "combwright"\n'
        f'[project]\nname = "{release.name}"\nversion = "{release.told_version or release.version}"\n'
        f"dependencies = {json.dumps(release.needs)}\n"
    )


def _build_wheel(release: MadeUp) -> bytes:
    info = f"{release.stem}.dist-info"
    contents = {
        f"{release.name}.py": release.source(),
        **dict(release.more),
        f"{info}/METADATA": metadata_of(release),
        f"{info}/WHEEL": f"Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: {release.tag}\n",
    }
    if release.commands:
        lines = [f"{command} = {release.name}:{function}" for command, function in release.commands]
        contents[f"{info}/entry_points.txt"] = "\n".join(["[console_scripts]", *lines, ""])
    return build_archive(info, {path: text.encode() for path, text in contents.items()})


def build_archive(info: str, contents: dict[str, bytes]) -> bytes:
    """An archive with these files and a `RECORD` of them in the folder `info`."""
    buffer = io.BytesIO()
    write_zip(buffer, [Packed(path, body) for path, body in with_record(contents, info)], day=_DAY)
    return buffer.getvalue()


def metadata_of(release: MadeUp) -> str:
    """The core metadata."""
    lines = [
        f"Metadata-Version: {release.metadata_version}",
        f"Name: {release.name}",
        f"Version: {release.told_version or release.version}",
        "Summary: made up for Rabbet's demo",
        f"Requires-Python: {release.python}",
        *(f"Dynamic: {field}" for field in release.dynamic),
        *(f"Provides-Extra: {extra}" for extra in release.extras),
        *(f"Requires-Dist: {need}" for need in release.needs),
        *([f"Project-URL: Release notes, {release.news}"] if release.news else []),
    ]
    return "\n".join([*lines, "", f"{release.name} exists in Rabbet's demo only.", ""])


def write_files(folder: Path, releases: Iterable[MadeUp] = RELEASES) -> None:
    """Put their files into a folder, as another form of source."""
    folder.mkdir(parents=True, exist_ok=True)
    for release in releases:
        (folder / release.filename).write_bytes(build_file(release))
