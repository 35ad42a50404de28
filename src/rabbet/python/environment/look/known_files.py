"""Files of an environment that were read before, by the state that they had then.

Where a single file was altered, the state of the whole environment tells nothing of the others. Each is known
by its inode, its size, its permissions and its times: while these are the same, it has the digest that was
read. A hard link that is made or removed elsewhere changes the number of links and `ctime`, and nothing else.
"""

import hashlib
import os
from collections.abc import Iterable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

import msgspec

from rabbet.store.blob_cache import BlobCache

__all__ = ["KnownFile", "KnownFiles", "recall_files", "remember_files"]


class KnownFile(NamedTuple):
    """The state of a file, and the sha256 digest of its content in hexadecimal digits."""

    inode: int
    size: int
    mode: int
    modified: int  # nanoseconds
    changed: int  # nanoseconds: the last change of any kind, which nobody can set
    links: int
    sha256: str

    def follows(self, earlier: "KnownFile | None") -> bool:
        """Whether nothing but links that were made or removed elsewhere leads from an earlier state here."""
        if earlier is None or self == earlier:
            return earlier is not None
        return self.links != earlier.links and self == earlier._replace(
            changed=self.changed, links=self.links
        )


_DECODER = msgspec.msgpack.Decoder(dict[str, KnownFile])


class KnownFiles:
    """The verified states of an environment's files by place, including those of this look."""

    def __init__(self, known: Mapping[str, KnownFile] | None = None) -> None:
        self._known = known or {}
        self.sound: dict[str, KnownFile] = {}

    def states(self, root: str, digests: Mapping[str, Iterable[str | None]]) -> dict[str, KnownFile]:
        """Each file that one digest is recorded of, in the state that it has now, as it should be."""
        found = {}
        for place, recorded in digests.items():
            only = set(recorded) - {None}
            try:
                state = os.lstat(f"{root}/{place}") if len(only) == 1 else None
            except OSError:
                continue
            if state is not None:
                sha256 = next(iter(only)) or ""
                found[place] = KnownFile(
                    state.st_ino,
                    state.st_size,
                    state.st_mode,
                    state.st_mtime_ns,
                    state.st_ctime_ns,
                    state.st_nlink,
                    sha256,
                )
        return found

    def is_known(self, place: str, state: KnownFile | None) -> bool:
        """Whether a file was read in this state, and was as it should be."""
        return state is not None and state.follows(self._known.get(place))


def recall_files(root: Path, memory: BlobCache) -> KnownFiles:
    """The stored states of an environment's files."""
    content = memory.recall(_key(root))
    try:
        return KnownFiles(_DECODER.decode(content) if content else None)
    except msgspec.MsgspecError:
        return KnownFiles()


def remember_files(root: Path, memory: BlobCache, found: KnownFiles) -> None:
    """Note which files are as recorded, for the next look; nothing if the name of one is no text."""
    with suppress(UnicodeEncodeError):
        memory.remember(_key(root), msgspec.msgpack.encode(found.sound))


def _key(root: Path) -> str:
    place = str(root.resolve()).encode(errors="surrogateescape")
    return f"{hashlib.sha256(place).hexdigest()}-files"
