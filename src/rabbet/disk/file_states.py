"""States of trees from their files' metadata, without reading them; disk usage.

An edit changes a file's size or its time of modification, and a replacement its inode. Who sets the time of
modification back is noticed too: the kernel notes the last change of any kind (`ctime`), which nobody can
set. A hard link that is made or removed elsewhere changes that time as well. So of shared files (those
with several links, and all of the store) that time counts only where the number of links is the same; and
where links came and went, the inodes may be known from another place. Times are compared for being the same,
never for being later, so a clock that is set back deceives nobody.
"""

import hashlib
import json
import os
from array import array
from collections.abc import Callable, Iterable, Sequence
from time import perf_counter
from typing import NamedTuple, TypeVar

from rabbet.disk.folder import opened_folder

__all__ = [
    "FolderState",
    "Size",
    "TreeState",
    "inodes_below",
    "inodes_of",
    "packed_state",
    "size_of",
    "state_of",
    "unpacked_state",
]


_SAMPLE = 200  # files, after which the disk's pace is known
_SLOW = 0.0003  # seconds that a file takes: one at hand takes a hundredth
_AT_ONCE = 32  # folders that are waited for


class FolderState(NamedTuple):
    """The files and links of one folder, without those of the folders in it.

    `content` is a digest of names, inodes, sizes, permissions and times of modification; `own` and `shared`
    are digests of the times of the last change of files that lie here alone, and that may lie elsewhere too;
    `links` is the number of links to all of them.
    """

    content: bytes
    own: bytes
    shared: bytes
    links: int


class TreeState(NamedTuple):
    """A tree's folders by their places below its root."""

    folders: dict[str, FolderState]

    @property
    def digest(self) -> str:
        """The same for the same state, and for no other."""
        digest = hashlib.blake2b(digest_size=20)
        for place, (content, own, shared, links) in sorted(self.folders.items()):
            digest.update(b"%s\0%d\0%s%s%s" % (os.fsencode(place), links, content, own, shared))
        return digest.hexdigest()

    def doubtful(self, earlier: "TreeState") -> list[str] | None:
        """The folders whose shared files changed in a way that the number of links does not explain.

        Without any, nothing but links that were made or removed elsewhere leads from an earlier state here.
        `None` where something else was changed.
        """
        if self.folders.keys() != earlier.folders.keys():
            return None
        found = []
        for place, now in self.folders.items():
            before = earlier.folders[place]
            if now != before:
                if (now.content, now.own) != (before.content, before.own):
                    return None
                if now.links == before.links:
                    found.append(place)
        return found


def state_of(root: str, *, shared_all: bool = False, slow: float = _SLOW) -> TreeState:
    """The state of all files and links below a folder, wherever it lies. Raises `OSError`.

    Files with several links are shared; in the store all are (`shared_all`), also while nobody links to them.
    Where a file takes more than `slow` seconds, as over a network, many folders are looked at side by side.
    """
    found: dict[str, FolderState] = {}
    waiting, files, begun = [""], 0, perf_counter()
    while waiting:
        if files > _SAMPLE and perf_counter() - begun > files * slow:
            below, waiting = waiting, []
            looked = _in_threads(lambda place: _folder_state(root, place, shared_all), below)
        else:
            below = [waiting.pop()]
            looked = [_folder_state(root, below[0], shared_all)]
        for place, (state, count, inner) in zip(below, looked, strict=True):
            found[place] = state
            files += count
            waiting += inner
    return TreeState(found)


def _folder_state(root: str, below: str, shared_all: bool) -> tuple[FolderState, int, list[str]]:  # noqa: FBT001
    """The state of one folder, how many files it holds, and the folders in it."""
    names: list[str] = []
    numbers: list[int] = []
    own: list[int] = []
    shared: list[int] = []
    folders: list[str] = []
    links = 0
    with opened_folder(f"{root}/{below}") as descriptor, os.scandir(descriptor) as entries:
        for entry in entries:  # in the order in which the folder has them, as long as nobody touches it
            if entry.is_dir(follow_symlinks=False):
                folders.append(f"{below}/{entry.name}")
                continue
            state = entry.stat(follow_symlinks=False)
            names.append(entry.name)
            numbers += (state.st_ino, state.st_size, state.st_mode, state.st_mtime_ns)
            links += state.st_nlink
            (shared if shared_all or state.st_nlink > 1 else own).append(state.st_ctime_ns)
    content = os.fsencode("\0".join(names)) + array("q", numbers).tobytes()
    return FolderState(_short(content), _of_times(own), _of_times(shared), links), len(names), folders


_Looked = TypeVar("_Looked")


def _in_threads(look: Callable[[str], _Looked], places: Sequence[str]) -> list[_Looked]:
    from concurrent.futures import ThreadPoolExecutor  # here: most disks are at hand

    with ThreadPoolExecutor(_AT_ONCE) as pool:
        return list(pool.map(look, places))


def inodes_below(root: str) -> frozenset[int]:
    """The inodes of all files below a folder. Raises `OSError`."""
    found, waiting = set(), [root]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                else:
                    found.add(entry.inode())
    return frozenset(found)


def inodes_of(root: str, folders: Iterable[str]) -> frozenset[int]:
    """The inodes of files with several links in these folders of a tree. Raises `OSError`."""
    found = set()
    for folder in folders:
        with os.scandir(f"{root}/{folder}") as entries:
            for entry in entries:
                if not entry.is_dir(follow_symlinks=False) and entry.stat(follow_symlinks=False).st_nlink > 1:
                    found.add(entry.inode())
    return frozenset(found)


def _of_times(times: Sequence[int]) -> bytes:
    return _short(array("q", times).tobytes()) if times else b""


def _short(content: bytes) -> bytes:
    return hashlib.blake2b(content, digest_size=16).digest()


def packed_state(state: TreeState) -> bytes:
    """A state as it is remembered."""
    rows = {
        place: [content.hex(), own.hex(), shared.hex(), links]
        for place, (content, own, shared, links) in state.folders.items()
    }
    return json.dumps(rows).encode()


def unpacked_state(content: bytes) -> TreeState | None:
    """A remembered state; `None` where it can't be read."""
    try:
        rows = json.loads(content)
        return TreeState({place: _unpacked(*row) for place, row in rows.items()})
    except (ValueError, AttributeError, TypeError, RecursionError):
        return None


def _unpacked(content: str, own: str, shared: str, links: int) -> FolderState:
    return FolderState(bytes.fromhex(content), bytes.fromhex(own), bytes.fromhex(shared), links)


class Size(NamedTuple):
    """Bytes in files that only this environment has, and in files that other places link to as well."""

    own: int
    shared: int


def size_of(root: str) -> Size:
    """Add up all files below a folder. Raises `OSError`."""
    own = shared = 0
    waiting = [root]
    while waiting:
        with os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                    continue
                state = entry.stat(follow_symlinks=False)
                if state.st_nlink > 1:
                    shared += state.st_size
                else:
                    own += state.st_size
    return Size(own, shared)
