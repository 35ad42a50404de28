"""A made-up name for this machine: stable, and nobody's real one."""

import os
import re
import secrets
from contextlib import suppress
from pathlib import Path

from rabbet.core.limits import MOST_METADATA
from rabbet.regular_file import read_regular
from rabbet.store.atomic import cannot_write

__all__ = ["checked_label", "own_label"]

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
    path = folder / _FILE
    with suppress(OSError, UnicodeDecodeError):
        known = read_regular(path, most=MOST_METADATA).decode().strip()
        if _FORM.match(known):
            return known
    label = f"{secrets.choice(_FIRST)}-{secrets.choice(_SECOND)}-{secrets.randbelow(900) + 100}"
    with cannot_write(path):
        folder.mkdir(parents=True, exist_ok=True)
        beside = path.with_name(f".{_FILE}-{os.getpid()}")
        beside.write_text(f"{label}\n", encoding="utf-8")
        with suppress(FileExistsError):
            path.hardlink_to(beside)  # whoever comes first has made it up for all
        beside.unlink()
    return read_regular(path, most=MOST_METADATA).decode().strip()


def checked_label(text: str) -> str | None:
    """A label as it may be written; `None` for what can't be one (letters, digits, `.`, `_`, `-`)."""
    lower = text.lower()
    fits = _FORM.match(lower) and ".." not in lower and not lower.endswith(".lock")  # git's own rules too
    return lower if fits else None
