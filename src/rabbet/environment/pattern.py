"""What a finished environment consists of, so that the same one can be put together again at once.

Most files are linked from the store, and are held against what was noted of them before; the others are small
and come with the pattern.
"""

import json
import os
from collections import defaultdict
from collections.abc import Iterable, Iterator
from contextlib import nullcontext
from functools import partial
from itertools import accumulate
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rabbet.environment.alongside import alongside
from rabbet.environment.folder import opened_folder
from rabbet.environment.linking import Linking
from rabbet.store.memory import write_at_once

if TYPE_CHECKING:
    from rabbet.environment.install import Placed

__all__ = ["Pattern", "StoreChanged", "follow_pattern", "pattern_of", "read_pattern", "write_pattern"]


_FORMAT = 2  # 1: first form, without this number. 2: linked files in texts
_Linked = tuple[str, str, str, str]
_WORTH_TWO = 2000  # files: to link so many takes longer than to begin a second process


class StoreChanged(Exception):
    """A file of the store is gone, or is not what it was: the pattern can't be followed."""


class Pattern(NamedTuple):
    """An environment by its folders, its symbolic links and its files; places are relative to its folder.

    `libraries` are the names and versions of what it holds, `runtime` is what it was made with. Linked files
    are by the folder that they lie in and the one in the store that they come from: the names, and the sizes
    and times (ns), each in one text, for many short ones would take long to read. A written one is its place,
    its bytes as Latin-1 text, its permissions and its time.
    """

    libraries: list[tuple[str, str]]
    runtime: str
    folders: list[str]
    links: list[tuple[str, str]]
    linked: list[_Linked]
    written: list[tuple[str, str, int, int]]


def pattern_of(
    root: Path, placed: "Iterable[Placed]", libraries: Iterable[tuple[str, str]], runtime: str
) -> Pattern:
    """The pattern of an environment that was just made of these files. Raises `OSError`."""
    pattern = Pattern(list(libraries), runtime, [], [], [], [])
    stored = {one.place: one for one in placed if one.linked is not None}
    linked: defaultdict[tuple[str, str], list[tuple[str, str]]] = defaultdict(list)
    for entry in _entries(str(root)):
        place = entry.path[len(str(root)) + 1 :]
        if entry.is_symlink():
            pattern.links.append((place, str(Path(entry.path).readlink())))
        elif entry.is_dir():
            pattern.folders.append(place)
        elif place in stored:
            one, folder = stored[place], place.rpartition("/")[0]
            linked[folder, str(one.linked).rpartition("/")[0]].append(
                (entry.name, f"{one.size} {one.changed}")
            )
        else:
            state = entry.stat()
            content = Path(entry.path).read_bytes().decode("latin-1")
            pattern.written.append((place, content, state.st_mode & 0o777, state.st_mtime_ns))
    for (folder, there), files in linked.items():
        names, states = ("/".join(texts) for texts in zip(*files, strict=True))
        pattern.linked.append((folder, there, names, states))
    return pattern


def _entries(folder: str) -> Iterator["os.DirEntry[str]"]:
    """Everything below a folder; what holds something comes before what it holds."""
    with os.scandir(folder) as entries:
        for entry in entries:
            yield entry
            if entry.is_dir(follow_symlinks=False):
                yield from _entries(entry.path)


def follow_pattern(pattern: Pattern, root: str) -> None:
    """Put the same environment into an empty folder. Raises `StoreChanged`, `OSError`.

    Tens of thousands of places are plain texts here.
    """
    for folder in pattern.folders:
        os.mkdir(f"{root}/{folder}")  # noqa: PTH102
    for place, target in pattern.links:
        os.symlink(target, f"{root}/{place}")  # noqa: PTH211
    first, second = _halves(pattern.linked)
    with alongside(partial(_link, second, root)) if second else nullcontext():
        _link(first, root)
        for place, content, mode, changed in pattern.written:
            path = f"{root}/{place}"
            write_at_once(path, content.encode("latin-1"))
            os.chmod(path, mode)  # noqa: PTH101
            os.utime(path, ns=(changed, changed))


def _link(linked: list[_Linked], root: str) -> None:
    """Link files that are as they were; the store is asked first."""
    linking = Linking()
    for folder, stored, names, states in linked:
        files = names.split("/")
        if _states(stored, files) != states:
            raise StoreChanged(stored)
        try:
            linking.put_all(stored, f"{root}/{folder}", files)
        except FileNotFoundError as error:  # gone since it was asked
            raise StoreChanged(stored) from error


def _states(stored: str, files: list[str]) -> str:
    """The sizes and times of files of one folder of the store, as a pattern has them."""
    try:
        with opened_folder(stored) as source:
            found = [os.stat(file, dir_fd=source) for file in files]
    except OSError as error:
        raise StoreChanged(stored) from error
    return "/".join(f"{one.st_size} {one.st_mtime_ns}" for one in found)


def _halves(linked: list[_Linked]) -> tuple[list[_Linked], list[_Linked]]:
    """Two parts of about as many files; all in the first where they are too few for a second process."""
    sums = list(accumulate(names.count("/") + 1 for _, _, names, _ in linked))
    if not sums or sums[-1] < _WORTH_TWO:
        return linked, []
    middle = next(place for place, seen in enumerate(sums, 1) if seen * 2 >= sums[-1])
    return linked[:middle], linked[middle:]


def read_pattern(content: bytes) -> Pattern | None:
    """A pattern that was kept, if it can still be read."""
    try:
        number, *parts = json.loads(content)
        return Pattern(*parts) if number == _FORMAT else None
    except (ValueError, TypeError):
        return None


def write_pattern(pattern: Pattern) -> bytes:
    """A pattern in the form in which it is kept."""
    return json.dumps([_FORMAT, *pattern], ensure_ascii=False).encode(errors="surrogatepass")
