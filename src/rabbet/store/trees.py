"""Trees of the store: unpacked or compiled files that environments link, and how damage to them is noticed.

    ENTRY/tree/…    the files, read-only
    ENTRY/files     what they were when they were put there, under a digest of its own

Environments may be hard links, so an edit in one of them reaches the tree. The state of a tree
(`file_states`) is remembered when its files were found right; they are read again only where it is another
one. That the files were linked elsewhere meanwhile, or that such a link is gone, is no other state. This
module imports little, for an environment that is made again needs nothing else of the store.
"""

import json
import os
import stat
import sys
from collections.abc import Sequence
from typing import NamedTuple

from rabbet.core.limits import MOST_NOTES
from rabbet.disk.file_states import TreeState, packed_state, state_of, unpacked_state
from rabbet.disk.regular_file import read_regular, sha256_of_regular
from rabbet.store.blob_cache import FORGOTTEN, BlobCache, sealed, unsealed

__all__ = [
    "StoredFile",
    "is_sound",
    "is_sound_tree",
    "note_state",
    "read_tree",
    "sound_tree",
    "write_tree",
]

_FILES = "files"
_DIGEST = 40  # characters of a state's digest, which comes first where it is remembered
_MODES = (stat.S_IFREG | 0o444, stat.S_IFREG | 0o555)


class StoredFile(NamedTuple):
    """One file: its place, relative and with forward slashes, its digest, its size in bytes."""

    path: str
    sha256: str
    size: int


def sound_tree(entry: str, key: str, states: BlobCache) -> tuple[StoredFile, ...] | None:
    """The files of a tree that has not changed; `None` when it is missing or damaged.

    `key` identifies the tree in the digest of its list, and in the stored `states`.
    """
    return read_tree(entry, key) if is_sound_tree(entry, key, states) else None


def is_sound_tree(entry: str, key: str, states: BlobCache) -> bool:
    """Whether a tree is there, and its files are what they were."""
    try:
        state = _state_of(entry)
    except OSError:
        return False
    known = states.recall(key) or b""
    if known.startswith(state.digest.encode()):
        return True
    earlier = unpacked_state(known[_DIGEST:])
    if earlier is None or state.doubtful(earlier) != []:
        files = read_tree(entry, key)
        if files is None or not all(_is_sound_file(f"{entry}/tree", file) for file in files):
            sys.audit(FORGOTTEN, f"{entry}/tree")
            return False
    _remember(key, state, states)
    return True


def _is_sound_file(tree: str, file: StoredFile) -> bool:
    try:
        mode = os.lstat(f"{tree}/{file.path}").st_mode
    except OSError:
        return False
    return mode in _MODES and is_sound(f"{tree}/{file.path}", file.sha256)


def note_state(entry: str, key: str, states: BlobCache) -> None:
    """A tree is right as it is: it was just made, or its files were linked, which changes their state.

    Only callers that have just verified it may call this. Raises `OSError`.
    """
    _remember(key, _state_of(entry), states)


def _state_of(entry: str) -> TreeState:
    return state_of(f"{entry}/tree", shared_all=True)


def _remember(key: str, state: TreeState, states: BlobCache) -> None:
    """Keep a state. The old one goes first: ext4 takes a millisecond to put a file in another one's place."""
    states.forget(key)
    states.remember(key, state.digest.encode() + packed_state(state))


def read_tree(entry: str, key: str) -> tuple[StoredFile, ...] | None:
    """The list of a tree's files, as they were put there; `None` where there is none that can be believed."""
    try:
        content = unsealed(key, read_regular(f"{entry}/{_FILES}", most=MOST_NOTES))
        return tuple(StoredFile(*row) for row in json.loads(content))
    except (FileNotFoundError, NotADirectoryError):
        return None
    except (OSError, ValueError, TypeError, RecursionError):
        sys.audit(FORGOTTEN, f"{entry}/{_FILES}")
        return None


def write_tree(entry: str, key: str, files: Sequence[StoredFile]) -> None:
    """Write the list of a tree's files. Raises `OSError`."""
    with open(f"{entry}/{_FILES}", "xb") as file:  # noqa: PTH123 - a part of the lightest runs
        file.write(sealed(key, json.dumps(files).encode()))


def is_sound(path: str | os.PathLike[str], sha256: str) -> bool:
    """Whether a file is there and has this digest."""
    try:
        return sha256_of_regular(path) == sha256
    except OSError:
        return False
