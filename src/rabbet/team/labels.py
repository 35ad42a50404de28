"""A made-up name for this machine: stable, and nobody's real one."""

import re
import secrets
from pathlib import Path

from rabbet.core.limits import MOST_METADATA
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder

__all__ = ["checked_label", "own_label", "set_label"]

_FILE = "label"
_FORM = re.compile(r"[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?\Z")
_FIRST = (
    *("amber", "brisk", "calm", "clover", "dusky", "early", "fern", "gentle", "golden", "hazel", "heather"),
    *("humming", "late", "linden", "maple", "mellow", "misty", "quiet", "rosy", "russet", "sunny", "thyme"),
)
_SECOND = (
    *("apiary", "barn", "bench", "cellar", "comb", "ditch", "field", "frame", "gate", "grove", "hedge"),
    *("hive", "loft", "meadow", "mill", "orchard", "porch", "shed", "skep", "stall", "stand", "well"),
)


def own_label(folder: Path) -> str:
    """The label of the machine, made up once and kept in a folder. Raises `CannotWrite`."""
    with cannot_write(folder / _FILE), GuardedFolder.at(folder) as opened:
        known = _known(opened)
        if known is not None:
            return known
        label = f"{secrets.choice(_FIRST)}-{secrets.choice(_SECOND)}-{secrets.randbelow(900) + 100}"
        opened.remove_tree(_FILE)  # a damaged one, or something else in its place
        opened.offer(_FILE, f"{label}\n".encode())  # the first process decides for all
        return _known(opened) or label


def set_label(folder: Path, label: str) -> None:
    """Call the machine otherwise from now on. Raises `CannotWrite`."""
    with cannot_write(folder / _FILE), GuardedFolder.at(folder) as opened:
        opened.write(_FILE, f"{label}\n".encode())


def _known(folder: GuardedFolder) -> str | None:
    """The label in a folder; `None` where there is none, or something else."""
    try:
        label = folder.read(_FILE, most=MOST_METADATA).decode().strip()
    except (OSError, UnicodeDecodeError):
        return None
    return label if _FORM.match(label) else None


def checked_label(text: str) -> str | None:
    """A label as it may be written; `None` for what can't be one (letters, digits, `.`, `_`, `-`)."""
    lower = text.lower()
    fits = _FORM.match(lower) and ".." not in lower and not lower.endswith(".lock")  # git's own rules too
    return lower if fits else None
