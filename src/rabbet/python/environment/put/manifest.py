"""A cached manifest of a finished environment, from which it can be restored.

Most files are linked from the store, whose trees are compared with the state that was last found
right; the others are small and come with the manifest.
"""

import json
import os
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import nullcontext
from functools import partial
from itertools import accumulate
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rabbet.store.environments import NAME_FILE
from rabbet.store.trees import is_sound_tree, note_state
from rabbet.work.forked import alongside, fork_if_useful

if TYPE_CHECKING:
    from rabbet.python.environment.place.guarded import GuardedEnvironment
    from rabbet.python.environment.put.install import PlannedFile
    from rabbet.store.blob_cache import BlobCache

__all__ = [
    "EnvironmentManifest",
    "StoreChanged",
    "Tree",
    "build_from_manifest",
    "manifest_of",
    "read_manifest",
    "write_manifest",
]


_FORMAT = 4  # 1: without this number. 2: linked files in texts. 3: by trees of the store. 4: names in lists
_Linked = tuple[str, str, list[str]]
_WORTH_TWO = 2000  # files: to link so many takes longer than to begin a second process


class StoreChanged(Exception):
    """A tree of the store is gone, or is not what it was: the manifest can't be followed."""


class Tree(NamedTuple):
    """A tree of the store: its key, the entry that it lies in, and what is linked from it.

    Linked files are given by the folder of the environment that they lie in, the one in the tree that they
    come from, and their names.
    """

    key: str
    place: str
    linked: list[_Linked]


class EnvironmentManifest(NamedTuple):
    """An environment by its folders, its symbolic links and its files; places are relative to its folder.

    `libraries` are the names and versions of what it holds, `runtime` is what it was made with. A written
    file is its place, its bytes as Latin-1 text, and whether it can be run.
    """

    libraries: list[tuple[str, str]]
    runtime: str
    folders: list[str]
    links: list[tuple[str, str]]
    trees: list[Tree]
    written: list[tuple[str, str, bool]]


def manifest_of(
    root: Path,
    placed: "Iterable[PlannedFile]",
    trees: Sequence[tuple[str, Path]],
    libraries: Iterable[tuple[str, str]],
    runtime: str,
) -> EnvironmentManifest:
    """The manifest of an environment that was just made of these files and trees. Raises `OSError`."""
    manifest = EnvironmentManifest(list(libraries), runtime, [], [], [], [])
    stored = {file.place: file.linked for file in placed if file.linked is not None}
    linked: defaultdict[tuple[str, str], list[str]] = defaultdict(list)
    for entry in _entries(str(root)):
        place = entry.path[len(str(root)) + 1 :]
        if entry.is_symlink():
            manifest.links.append((place, str(Path(entry.path).readlink())))
        elif entry.is_dir():
            manifest.folders.append(place)
        elif place in stored:
            linked[place.rpartition("/")[0], stored[place].rpartition("/")[0]].append(entry.name)
        elif place != NAME_FILE:  # each environment has a name of its own
            content = Path(entry.path).read_bytes().decode("latin-1")
            manifest.written.append((place, content, bool(entry.stat().st_mode & 0o100)))
    for key, tree in trees:
        rows = [
            (folder, there, names)
            for (folder, there), names in linked.items()
            if f"{there}/".startswith(f"{tree}/")
        ]
        manifest.trees.append(Tree(key, str(tree.parent), rows))
    return manifest


def _entries(folder: str) -> Iterator["os.DirEntry[str]"]:
    """Everything below a folder; what holds something comes before what it holds."""
    with os.scandir(folder) as entries:
        for entry in entries:
            yield entry
            if entry.is_dir(follow_symlinks=False):
                yield from _entries(entry.path)


def build_from_manifest(
    manifest: EnvironmentManifest,
    opened: "Callable[[], GuardedEnvironment]",
    states: "BlobCache",
    fork: Callable[[], int | None] = fork_if_useful,
) -> None:
    """Put the same environment into an empty folder, which `opened` opens. Raises `StoreChanged`, `OSError`.

    `states` are the states that trees of the store were last found right in.
    """
    first, second = _halves(manifest.trees)
    filled = {folder for tree in manifest.trees for folder, *_ in tree.linked}
    with alongside(partial(_link, second, opened, states), fork) if second else nullcontext():
        _link(first, opened, states)
        with opened() as guarded:
            for folder in manifest.folders:
                if folder not in filled:  # the others are made by whoever links files into them
                    guarded.folder(folder, make=True)
            for place, target in manifest.links:
                guarded.link(place, target)
            for place, content, executable in manifest.written:
                guarded.put_file(place, content.encode("latin-1"), executable=executable)


def _link(trees: list[Tree], opened: "Callable[[], GuardedEnvironment]", states: "BlobCache") -> None:
    """Link the files of trees that are unchanged, and note the trees' new state, which links change."""
    with opened() as guarded:
        for key, place, linked in trees:
            try:
                if not is_sound_tree(place, key, states):
                    raise StoreChanged(place)
                for folder, stored, names in linked:
                    guarded.put_all(stored, folder, names)
                note_state(place, key, states)
            except (FileNotFoundError, NotADirectoryError) as error:  # gone, perhaps since it was asked
                raise StoreChanged(place) from error


def _halves(trees: list[Tree]) -> tuple[list[Tree], list[Tree]]:
    """Split the trees into two parts of about equal size; all in the first if they are few."""
    sums = list(accumulate(sum(len(names) for *_, names in tree.linked) for tree in trees))
    if not sums or sums[-1] < _WORTH_TWO:
        return trees, []
    middle = next(place for place, seen in enumerate(sums, 1) if seen * 2 >= sums[-1])
    return trees[:middle], trees[middle:]


def read_manifest(content: bytes) -> EnvironmentManifest | None:
    """Decode a manifest; `None` if it is damaged or of an older format."""
    try:
        number, libraries, runtime, folders, links, trees, written = json.loads(content)
        if number != _FORMAT:
            return None
        return EnvironmentManifest(
            libraries, runtime, folders, links, [Tree(*tree) for tree in trees], written
        )
    except (ValueError, TypeError, RecursionError):
        return None


def write_manifest(manifest: EnvironmentManifest) -> bytes:
    """Encode a manifest."""
    return json.dumps([_FORMAT, *manifest], ensure_ascii=False).encode(errors="surrogatepass")
