"""Pack a runtime of this machine into an archive for others; the same prefix gives the same bytes.

What would keep it from running elsewhere is found before: links that lead outside, libraries from outside,
paths of this machine in scripts. Libraries that a program looks for in the prefix by its path are looked for
from where it lies.
"""

import os
import re
import stat
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from rabbet.archives.pack import Packed, write_tar
from rabbet.disk.regular_file import sha256_of_regular
from rabbet.errors import IntegrityFailed
from rabbet.runtimes.binary_format import read_program
from rabbet.runtimes.elf import read_elf

__all__ = ["PortabilityProblem", "obstacles", "pack"]

_LEFT_OUT = ("__pycache__",)
_EPOCH = 315_532_800  # 1980-01-01, the oldest time that every form of archive can hold
_MOST_SCRIPT = 200  # bytes of a script's first line
# Parts of the C library, which every Linux has, with the loader itself.
_OF_THE_SYSTEM = re.compile(
    r"(ld-linux.*|ld-musl.*|lib(c|m|dl|pthread|rt|util|resolv|nsl|crypt|gcc_s|stdc\+\+)|libc\.musl-.*)\.so"
)


class PortabilityProblem(Struct, frozen=True, kw_only=True):
    """Something in a prefix that would not work elsewhere: the file's place, and why.

    One that `forbids` packing can't be obtained by anybody. A shared `library` that it needs has to be there
    on the other machine.
    """

    place: str
    reason: str
    forbids: bool = False
    library: str = ""


def obstacles(prefix: Path) -> Iterator[PortabilityProblem]:
    """All that would keep a prefix from running in another folder, or on another machine."""
    own = {path.name for path in _entries(prefix) if path.is_file()}
    for path in _entries(prefix):
        place = path.relative_to(prefix).as_posix()
        if path.is_symlink():
            target = path.readlink()
            real = Path(os.path.realpath(path))
            if prefix not in real.parents and real != prefix:
                yield PortabilityProblem(
                    place=place, reason=f"it is a link to {target}, outside", forbids=True
                )
        elif path.is_file():
            yield from _of_file(path, place, prefix, own)


def _of_file(path: Path, place: str, prefix: Path, own: set[str]) -> Iterator[PortabilityProblem]:
    with path.open("rb") as file:
        head = file.read(_MOST_SCRIPT)
        if head.startswith(b"#!") and os.access(path, os.X_OK):
            line = head[2:].splitlines()[0].decode(errors="replace").strip()
            if line.startswith(f"{prefix}/"):
                reason = f"it is a script for {line.split()[0]}, which is elsewhere then"
                yield PortabilityProblem(place=place, reason=reason)
            return
    elf = read_elf(read_program(path)) if head.startswith(b"\x7fELF") else None
    for needed in elf.needed if elf else ():
        if needed not in own and not _OF_THE_SYSTEM.match(needed):
            reason = f"it needs {needed}, which is not in the prefix"
            yield PortabilityProblem(place=place, reason=reason, library=needed)
    for run_path in elf.run_paths if elf else ():
        if str(prefix) in run_path.text and _from_there(run_path.text, path, prefix) is None:
            reason = f"it looks for libraries in {run_path.text}, which is elsewhere then"
            yield PortabilityProblem(place=place, reason=reason)


def pack(prefix: Path, archive: Path) -> tuple[str, int]:
    """Write a `tar.gz` of a prefix, and tell its SHA-256 and size.

    Names are sorted, times and owners left out, compiled modules too: the same files give the same archive.
    Raises `IntegrityFailed` for what no archive can hold, `OSError`.
    """
    with archive.open("xb") as file:
        write_tar(file, (_packed(path, prefix) for path in _entries(prefix)), level=6, time=_EPOCH)
    return sha256_of_regular(archive), archive.stat().st_size


def _packed(path: Path, prefix: Path) -> Packed:
    state, place = path.lstat(), path.relative_to(prefix).as_posix()
    if stat.S_ISLNK(state.st_mode):
        return Packed(place, target=_relative(path, prefix))
    if stat.S_ISDIR(state.st_mode):
        return Packed(place)
    if stat.S_ISREG(state.st_mode):
        return Packed(place, _relocated(path, prefix) or path, executable=bool(state.st_mode & 0o111))
    raise IntegrityFailed(f"{path} is neither a file, a folder nor a link", because=["it can't be packed"])


def _relocated(path: Path, prefix: Path) -> bytes | None:
    """A program or library that looks for others from where it lies; `None` where it did not name the prefix.

    The loader puts the file's own folder in place of `$ORIGIN` (System V ABI, "Substitution Sequences").
    """
    with path.open("rb") as file:
        if file.read(4) != b"\x7fELF":
            return None
    content = bytearray(read_program(path))
    elf = read_elf(bytes(content))
    changed = False
    for run_path in elf.run_paths if elf else ():
        text = _from_there(run_path.text, path, prefix) if str(prefix) in run_path.text else None
        if text is not None:
            size = len(run_path.text.encode())
            content[run_path.offset : run_path.offset + size] = text.encode().ljust(size, b"\0")
            changed = True
    return bytes(content) if changed else None


def _from_there(run_path: str, path: Path, prefix: Path) -> str | None:
    """The folders of a run path, those in the prefix as seen from the file; `None` where they don't fit."""
    folders = []
    for folder in run_path.split(":"):
        place = Path(os.path.normpath(folder))
        inside = place == prefix or prefix in place.parents
        folders.append(f"$ORIGIN/{os.path.relpath(place, path.parent)}" if inside else folder)
    text = ":".join(folders)
    return text if len(text.encode()) <= len(run_path.encode()) else None


def _relative(link: Path, prefix: Path) -> str:
    """Where a link leads; one that names a place of the prefix by its path names it from where it is."""
    target = link.readlink()
    inside = target.is_absolute() and prefix in target.parents
    return os.path.relpath(target, link.parent) if inside else str(target)


def _entries(folder: Path) -> Iterator[Path]:
    """Everything below a folder, sorted by name, without what is compiled again anyway."""
    for path in sorted(folder.iterdir()):
        if path.name in _LEFT_OUT:
            continue
        yield path
        if path.is_dir() and not path.is_symlink():
            yield from _entries(path)
