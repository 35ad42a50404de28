"""Which lock a user's commands last worked with in each project: from there on, changes are news."""

import hashlib
import time
from pathlib import Path

import msgspec

from rabbet.store.blob_cache import BlobCache

__all__ = ["Visit", "Visits"]


class Visit(msgspec.Struct, frozen=True):
    """When it was (seconds since the epoch), the stamp of the lock's text, and the versions in it."""

    when: int
    stamp: str
    versions: dict[str, list[str]]


_DECODER = msgspec.json.Decoder(Visit)


class Visits:
    """The last visit to each lock, by the lock's place; `folder` is the user's folder for state."""

    def __init__(self, folder: Path) -> None:
        self._notes = BlobCache(folder / "visits")

    def last(self, lock: Path) -> Visit | None:
        """The last visit; `None` where there was none, or it can't be read."""
        note = self._notes.recall(_key(lock))
        try:
            return _DECODER.decode(note) if note is not None else None
        except msgspec.MsgspecError:
            return None

    def note(self, lock: Path, stamp: str, versions: dict[str, list[str]]) -> None:
        """Remember a visit of now."""
        visit = Visit(int(time.time()), stamp, versions)
        self._notes.remember(_key(lock), msgspec.json.encode(visit))


def _key(lock: Path) -> str:
    return hashlib.sha256(str(lock).encode(errors="surrogateescape")).hexdigest()[:32]
