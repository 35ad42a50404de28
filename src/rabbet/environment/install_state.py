"""The state file inside an environment: its interpreter, wheels and chosen groups."""

from pathlib import Path

import msgspec

from rabbet.core.limits import MOST_NOTES
from rabbet.regular_file import read_regular
from rabbet.store.environments import Environments

__all__ = ["STAMP", "Origin", "Stamp", "own_stamp", "stamp_content"]

STAMP = "rabbet.json"
_FORMAT = 2  # 1: without the environment's own parts. 2: with them


class Origin(msgspec.Struct, frozen=True):
    """Where an installed library came from: the hashes of its wheel, and of the `RECORD` that was written."""

    wheel: str
    record: str


class Stamp(msgspec.Struct, frozen=True):
    """The interpreter that the environment was made for, and each library's origin by name.

    `own` are the environment's own files and links by their places: each file's sha256, each link's target.
    `groups` and `extras` are those that were chosen, `None` for all.
    """

    executable: str
    libraries: dict[str, Origin]
    own: dict[str, str]
    groups: list[str] | None = None
    extras: list[str] | None = None
    format: int = _FORMAT


_STAMP = msgspec.json.Decoder(Stamp)


def own_stamp(root: Path, environments: Environments) -> Stamp | None:
    """The stamp of an environment that was made here; `None` for a stranger's, and where it can't be used.

    A stamp is only as true as the folder that it lies in, and one that came with a clone may say anything.
    """
    if not environments.owns(root):
        return None
    try:
        stamp = _STAMP.decode(read_regular(root / STAMP, most=MOST_NOTES))
    except (OSError, ValueError, msgspec.MsgspecError, RecursionError):
        return None
    return stamp if stamp.format == _FORMAT else None


def stamp_content(stamp: Stamp) -> bytes:
    """A stamp as it is written."""
    return msgspec.json.encode(stamp) + b"\n"
