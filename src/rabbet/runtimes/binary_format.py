"""What a program's first bytes tell of the machine that it is built for (ELF; Mach-O)."""

import struct
from pathlib import Path

__all__ = ["architecture_of"]

_ELF_MACHINES = {
    3: "i686",
    40: "armv7l",
    62: "x86_64",
    183: "aarch64",
    243: "riscv64",
    22: "s390x",
    21: "ppc64le",
}
_MACH_O_MACHINES = {0x01000007: "x86_64", 0x0100000C: "arm64"}
_MACH_O = 0xFEEDFACF  # 64 bits, the machine's own order of bytes


def architecture_of(executable: Path) -> str:
    """The machine that a program is built for; empty for a script, and for what can't be read."""
    try:
        with executable.open("rb") as file:
            head = file.read(20)
    except OSError:
        return ""
    if len(head) < 20:
        return ""
    if head[:4] == b"\x7fELF":
        order = "<" if head[5] == 1 else ">"
        return _ELF_MACHINES.get(struct.unpack(f"{order}H", head[18:20])[0], "another machine")
    magic, machine = struct.unpack("<II", head[:8])
    return _MACH_O_MACHINES.get(machine, "another machine") if magic == _MACH_O else ""
