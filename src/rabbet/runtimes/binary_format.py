"""Which platforms a program is built for, by its first bytes (ELF, Mach-O, PE), and the oldest system."""

import struct
from collections.abc import Iterator
from pathlib import Path

from rabbet.disk.regular_file import read_regular
from rabbet.python.choosing.targets import PLATFORMS
from rabbet.runtimes.elf import machine_of, newest_glibc, read_elf

__all__ = ["architecture_of", "baseline_of", "platforms_of", "read_program"]

_MOST = 1_000_000_000  # bytes of a program that are read
_HEAD = 64
_MACH_O_MACHINES = {0x01000007: "x86_64", 0x0100000C: "arm64"}
_MACH_O, _FAT = 0xFEEDFACF, 0xCAFEBABE  # of 64 bits, in the machine's own order of bytes; several in one file
_MOST_PARTS, _MOST_COMMANDS = 8, 200  # of a Mach-O file; a Java class begins with the same bytes as a fat one
_OLDEST_MACOS = (0x24, 0x32)  # load commands that tell it: LC_VERSION_MIN_MACOSX, LC_BUILD_VERSION
_PE_X86_64 = 0x8664


def read_program(path: Path) -> bytes:
    """A program's content; empty for what can't be read, or is no regular file."""
    try:
        return read_regular(path, most=_MOST)
    except OSError:
        return b""


def architecture_of(executable: Path) -> str:
    """The machine that a program is built for; empty for a script, and for what can't be read."""
    try:
        with executable.open("rb") as file:
            head = file.read(_HEAD)
    except OSError:
        return ""
    if len(head) < _HEAD:
        return ""
    magic, machine = struct.unpack("<II", head[:8])
    if magic == _MACH_O:
        return _MACH_O_MACHINES.get(machine, "another machine")
    return machine_of(head) or ""


def platforms_of(content: bytes) -> tuple[str, ...]:
    """The platforms that a program runs on, as a declaration names them; none for a script.

    One that is linked statically runs with whichever C library.
    """
    elf = read_elf(content)
    if elf is not None:
        musl, glibc = (f"linux-{elf.machine}{ending}" for ending in ("-musl", ""))
        by_loader = {"": (glibc, musl)} if not elf.needed else {}
        named = by_loader.get(elf.interpreter) or ((musl,) if "ld-musl" in elf.interpreter else (glibc,))
        return tuple(platform for platform in named if platform in PLATFORMS)
    if content[:2] == b"MZ":
        return ("windows-x86_64",) if _pe_machine(content) == _PE_X86_64 else ()
    return tuple(f"macos-{_MACH_O_MACHINES[machine]}" for machine, _ in _mach_o_parts(content))


def baseline_of(content: bytes, platform: str) -> str:
    """The oldest C library, or system, that a program asks for, such as `glibc=2.31`; empty if not told."""
    library = PLATFORMS[platform][4]
    if library == "glibc":
        version = newest_glibc(content)
        return f"glibc={version}" if version else ""
    machine = PLATFORMS[platform][3]
    parts = (part for number, part in _mach_o_parts(content) if _MACH_O_MACHINES[number] == machine)
    oldest = next((_oldest_macos(part) for part in parts), "") if library == "macos" else ""
    return f"macos={oldest}" if oldest else ""


def _pe_machine(content: bytes) -> int:
    try:
        (header,) = struct.unpack_from("<I", content, 0x3C)
        signature, machine = struct.unpack_from("<4sH", content, header)
    except struct.error:
        return 0
    return int(machine) if signature == b"PE\0\0" else 0


def _mach_o_parts(content: bytes) -> Iterator[tuple[int, bytes]]:
    """Each known machine that a Mach-O file is for, with that part of it."""
    try:
        if struct.unpack_from(">I", content)[0] != _FAT:
            magic, machine = struct.unpack_from("<II", content)
            if magic == _MACH_O and machine in _MACH_O_MACHINES:
                yield machine, content
            return
        for number in range(min(struct.unpack_from(">I", content, 4)[0], _MOST_PARTS)):
            machine, _, offset, size = struct.unpack_from(">IIII", content, 8 + 20 * number)
            if machine in _MACH_O_MACHINES:
                yield machine, content[offset : offset + size]
    except struct.error:
        return


def _oldest_macos(part: bytes) -> str:
    """The oldest macOS that a part asks for, such as `12.0`; empty where it is not told."""
    try:
        (commands,) = struct.unpack_from("<I", part, 16)
        place = 32
        for _ in range(min(commands, _MOST_COMMANDS)):
            command, size = struct.unpack_from("<II", part, place)
            if command in _OLDEST_MACOS:
                offset = place + (8 if command == _OLDEST_MACOS[0] else 12)
                (version,) = struct.unpack_from("<I", part, offset)
                return f"{version >> 16}.{version >> 8 & 0xFF}"
            place += size
    except struct.error:
        pass
    return ""
