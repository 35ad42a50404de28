"""What Rabbet noted when it last changed an environment: a file inside it."""

from pathlib import Path

import msgspec

from rabbet.store.atomic import write_text

__all__ = ["Origin", "Stamp", "read_stamp", "write_stamp"]

_NAME = "rabbet.json"


class Origin(msgspec.Struct, frozen=True):
    """Where an installed library came from: the hashes of its wheel, and of the `RECORD` that was written.

    `state` is the signature of its recorded files as they were installed, empty where it is not known.
    """

    wheel: str
    record: str
    state: str = ""


class Stamp(msgspec.Struct, frozen=True):
    """The interpreter that the environment was made for, and each library's origin by name.

    `groups` and `extras` are those that were chosen, `None` for all.
    """

    executable: str
    libraries: dict[str, Origin]
    groups: list[str] | None = None
    extras: list[str] | None = None
    format: int = 1


_STAMP = msgspec.json.Decoder(Stamp)


def read_stamp(root: Path) -> Stamp | None:
    """The stamp of an environment; `None` where there is none that can be used."""
    try:
        stamp = _STAMP.decode((root / _NAME).read_bytes())
    except (OSError, msgspec.MsgspecError):
        return None
    return stamp if stamp.format == 1 else None


def write_stamp(root: Path, stamp: Stamp) -> None:
    """Write the stamp. Raises `CannotWrite`."""
    write_text(root / _NAME, msgspec.json.encode(stamp).decode() + "\n")
