"""Pack a runtime of this machine into an archive for others; the same prefix gives the same bytes.

What would keep it from running elsewhere is found before: links that lead outside, libraries from outside,
paths of this machine in scripts.
"""

import gzip
import os
import re
import stat
import struct
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import IO

from msgspec import Struct

from rabbet.disk.regular_file import sha256_of_regular
from rabbet.errors import IntegrityFailed

__all__ = ["Obstacle", "newest_glibc", "obstacles", "pack"]

_LEFT_OUT = ("__pycache__",)
_EPOCH = 315_532_800  # 1980-01-01, the oldest time that every form of archive can hold
_MOST_SCRIPT = 200  # bytes of a script's first line
_GLIBC = re.compile(rb"GLIBC_(2\.[0-9]{1,3})\0")
# Parts of the C library, which every Linux has, with the loader itself.
_OF_THE_SYSTEM = re.compile(
    r"(ld-linux.*|ld-musl.*|lib(c|m|dl|pthread|rt|util|resolv|nsl|crypt|gcc_s|stdc\+\+)|libc\.musl-.*)\.so"
)


class Obstacle(Struct, frozen=True, kw_only=True):
    """Something in a prefix that would not work elsewhere: the file's place, and why.

    One that `forbids` packing can't be obtained by anybody.
    """

    place: str
    reason: str
    forbids: bool = False


def obstacles(prefix: Path) -> Iterator[Obstacle]:
    """All that would keep a prefix from running in another folder, or on another machine."""
    own = {path.name for path in _entries(prefix) if path.is_file()}
    for path in _entries(prefix):
        place = path.relative_to(prefix).as_posix()
        if path.is_symlink():
            target = path.readlink()
            real = Path(os.path.realpath(path))
            if prefix not in real.parents and real != prefix:
                yield Obstacle(place=place, reason=f"it is a link to {target}, outside", forbids=True)
        elif path.is_file():
            yield from (Obstacle(place=place, reason=reason) for reason in _of_file(path, prefix, own))


def _of_file(path: Path, prefix: Path, own: set[str]) -> Iterator[str]:
    with path.open("rb") as file:
        head = file.read(_MOST_SCRIPT)
        if head.startswith(b"#!") and os.access(path, os.X_OK):
            line = head[2:].splitlines()[0].decode(errors="replace").strip()
            if line.startswith(f"{prefix}/"):
                yield f"it is a script for {line.split()[0]}, which is elsewhere then"
        elif head.startswith(b"\x7fELF"):
            for needed in _libraries(file):
                if needed not in own and not _OF_THE_SYSTEM.match(needed):
                    yield f"it needs {needed}, which is not in the prefix"


def newest_glibc(prefix: Path) -> str:
    """The newest version of glibc whose symbols a file of the prefix asks for; empty if none does."""
    found = {"0"}
    for path in _entries(prefix):
        if path.is_file() and not path.is_symlink():
            with path.open("rb") as file:
                if file.read(4) == b"\x7fELF":
                    found.update(version.decode() for version in _GLIBC.findall(file.read()))
    newest = max(found, key=lambda text: [int(part) for part in text.split(".")])
    return "" if newest == "0" else newest


def pack(prefix: Path, archive: Path) -> tuple[str, int]:
    """Write a `tar.gz` of a prefix, and tell its SHA-256 and size.

    Names are sorted, times and owners left out, compiled modules too: the same files give the same archive.
    Raises `IntegrityFailed` for what no archive can hold, `OSError`.
    """
    with archive.open("xb") as file:
        packed = gzip.GzipFile(filename="", fileobj=file, mode="wb", compresslevel=6, mtime=_EPOCH)
        with packed, tarfile.open(fileobj=packed, mode="w", format=tarfile.PAX_FORMAT) as tar:
            for path in _entries(prefix):
                _add(tar, path, prefix)
    return sha256_of_regular(archive), archive.stat().st_size


def _add(tar: tarfile.TarFile, path: Path, prefix: Path) -> None:
    state = path.lstat()
    member = tarfile.TarInfo(path.relative_to(prefix).as_posix())
    member.mtime = _EPOCH
    if stat.S_ISLNK(state.st_mode):
        member.type, member.linkname, member.mode = tarfile.SYMTYPE, _relative(path, prefix), 0o777
        tar.addfile(member)
    elif stat.S_ISDIR(state.st_mode):
        member.type, member.mode = tarfile.DIRTYPE, 0o755
        tar.addfile(member)
    elif stat.S_ISREG(state.st_mode):
        member.size, member.mode = state.st_size, 0o755 if state.st_mode & 0o111 else 0o644
        with path.open("rb") as file:
            tar.addfile(member, file)
    else:
        raise IntegrityFailed(
            f"{path} is neither a file, a folder nor a link", because=["it can't be packed"]
        )


def _relative(link: Path, prefix: Path) -> str:
    """Where a link leads; one that names a place of the prefix by its path names it from where it is."""
    target = link.readlink()
    inside = target.is_absolute() and prefix in target.parents
    return os.path.relpath(target, link.parent) if inside else str(target)


def _entries(folder: Path) -> Iterator[Path]:
    """Everything below a folder, sorted by name, without what is compiled anew anyway."""
    for path in sorted(folder.iterdir()):
        if path.name in _LEFT_OUT:
            continue
        yield path
        if path.is_dir() and not path.is_symlink():
            yield from _entries(path)


def _libraries(file: IO[bytes]) -> list[str]:
    """The shared libraries that an ELF file of 64 bits names (System V ABI, "Dynamic Section")."""
    file.seek(0)
    content = file.read()
    if len(content) < 64 or content[4:6] != b"\x02\x01":  # 64 bits, little-endian
        return []
    start, size, number = struct.unpack_from("<Q", content, 32)[0], *struct.unpack_from("<HH", content, 54)
    headers = [struct.unpack_from("<IIQQQQQQ", content, start + size * i) for i in range(number)]
    dynamic = next(((one[2], one[5]) for one in headers if one[0] == 2), None)
    if dynamic is None:
        return []
    entries = list(struct.iter_unpack("<qQ", content[dynamic[0] : dynamic[0] + dynamic[1] // 16 * 16]))
    table = next((value for tag, value in entries if tag == 5), None)  # DT_STRTAB, an address in memory
    if table is None:
        return []
    loaded = (one for one in headers if one[0] == 1 and one[3] <= table < one[3] + one[5])
    offset = next((one[2] + table - one[3] for one in loaded), 0)
    names = [offset + value for tag, value in entries if tag == 1]  # DT_NEEDED
    return [content[name : content.index(b"\0", name)].decode(errors="replace") for name in names]
