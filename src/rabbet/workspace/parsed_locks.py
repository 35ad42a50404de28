"""Locks that were parsed before, by their texts: to parse the TOML of a large one takes longer than all else.

Only the content of the tables is kept, so a lock is checked each time it is read.
"""

from contextlib import suppress
from hashlib import sha256

import msgspec

from rabbet.core.limits import UNREADABLE
from rabbet.formats.text.toml import parse_content
from rabbet.workspace.machine import Machine

__all__ = ["known_content"]

_CONTENT = msgspec.msgpack.Decoder(dict[str, object])
_WORTH_KEEPING = 10_000  # characters


def known_content(text: str, machine: Machine) -> dict[str, object]:
    """The content of a lock's text in TOML, which may have been parsed before. Raises `ValueError`."""
    if len(text) < _WORTH_KEEPING:
        return parse_content(text)
    memory, key = machine.memory("parsed"), sha256(text.encode()).hexdigest()
    kept = memory.recall(key)
    try:
        if kept is not None:
            return _CONTENT.decode(kept)
    except (msgspec.MsgspecError, *UNREADABLE):
        memory.forget(key)
    content = parse_content(text)
    with suppress(msgspec.MsgspecError, TypeError, *UNREADABLE):  # TOML's numbers are of any size
        packed = msgspec.msgpack.encode(content)
        if _CONTENT.decode(packed) == content:  # a day without time is no longer itself
            memory.remember(key, packed)
    return content
