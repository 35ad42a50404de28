"""Headers of Linux programs and libraries (ELF: System V ABI, chapters 4 and 5)."""

import re
import struct
from collections.abc import Iterator

from msgspec import Struct

__all__ = ["Elf", "RunPath", "machine_of", "newest_glibc", "read_elf"]

_MAGIC = b"\x7fELF"
_LOADED, _DYNAMIC, _INTERPRETER = 1, 2, 3  # kinds of segments
_NEEDED, _TABLE, _RPATH, _RUNPATH = 1, 5, 15, 29  # tags of the dynamic section
_MOST_ENTRIES = 10_000
_GLIBC = re.compile(rb"GLIBC_(2\.[0-9]{1,3})\0")
_MACHINES = {
    3: "i686",
    40: "armv7l",
    62: "x86_64",
    183: "aarch64",
    243: "riscv64",
    22: "s390x",
    21: "ppc64le",
}


class RunPath(Struct, frozen=True):
    """Where a file's libraries are looked for, and at which byte of the file that text begins."""

    offset: int
    text: str


class Elf(Struct, frozen=True, kw_only=True):
    """A file for a `machine`; `interpreter` is the loader that starts it, empty where none does.

    `needed` are the names of shared libraries, `run_paths` the folders that they are looked for in. Of files
    of another word size or order of bytes than 64 bits, little-endian, nothing but the machine is read.
    """

    machine: str
    interpreter: str = ""
    needed: tuple[str, ...] = ()
    run_paths: tuple[RunPath, ...] = ()


def machine_of(head: bytes) -> str | None:
    """The machine that a file is for, by its first 20 bytes; `None` for one of another kind."""
    if head[:4] != _MAGIC or len(head) < 20:
        return None
    order = "<" if head[5] == 1 else ">"
    return _MACHINES.get(struct.unpack(f"{order}H", head[18:20])[0], "another machine")


def read_elf(content: bytes) -> Elf | None:
    """Read a whole file; `None` for one of another kind, and for one that is broken."""
    machine = machine_of(content)
    if machine is None:
        return None
    if content[4:6] != b"\x02\x01":
        return Elf(machine=machine)
    try:
        return _read(content, machine)
    except (struct.error, ValueError, OverflowError):
        return None


def _read(content: bytes, machine: str) -> Elf:
    start, size, number = struct.unpack_from("<Q", content, 32)[0], *struct.unpack_from("<HH", content, 54)
    segments = [struct.unpack_from("<IIQQQQQQ", content, start + size * i) for i in range(number)]
    interpreter = next((_text(content, segment[2]) for segment in segments if segment[0] == _INTERPRETER), "")
    dynamic = next(((segment[2], segment[5]) for segment in segments if segment[0] == _DYNAMIC), None)
    if dynamic is None:
        return Elf(machine=machine, interpreter=interpreter)
    entries = list(_entries(content, *dynamic))
    address = next((value for tag, value in entries if tag == _TABLE), None)
    if address is None:
        return Elf(machine=machine, interpreter=interpreter)
    loaded = (
        segment
        for segment in segments
        if segment[0] == _LOADED and segment[3] <= address < segment[3] + segment[5]
    )
    table = next((segment[2] + address - segment[3] for segment in loaded), 0)
    return Elf(
        machine=machine,
        interpreter=interpreter,
        needed=tuple(_text(content, table + value) for tag, value in entries if tag == _NEEDED),
        run_paths=tuple(
            RunPath(table + value, _text(content, table + value))
            for tag, value in entries
            if tag in (_RPATH, _RUNPATH)
        ),
    )


def _entries(content: bytes, offset: int, size: int) -> Iterator[tuple[int, int]]:
    for place in range(offset, offset + min(size, _MOST_ENTRIES * 16) // 16 * 16, 16):
        tag, value = struct.unpack_from("<qQ", content, place)
        if tag == 0:
            return
        yield tag, value


def _text(content: bytes, offset: int) -> str:
    return content[offset : content.index(b"\0", offset)].decode("utf-8")


def newest_glibc(content: bytes) -> str:
    """The newest version of glibc whose symbols a file asks for, such as `2.34`; empty if none is named."""
    versions = [found.decode() for found in _GLIBC.findall(content)]
    return max(versions, key=lambda text: int(text.partition(".")[2]), default="")
