"""Objects of a repository by their ids. Sizes are asked for first, so that no object fills the memory."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from typing import Literal, NamedTuple, TypeAlias

from rabbet.work.ask import ProgramAnswer

__all__ = ["Asker", "TreeEntry", "entries_of", "read_objects"]

Asker: TypeAlias = Callable[[Sequence[str], bytes], ProgramAnswer]
"""Asks git in one repository, with arguments and an input."""

_TOGETHER = 30_000_000  # bytes that are read with one question
_MOST = 500_000_000  # bytes that are read in all
_ID_LENGTHS = (40, 64)  # digits (SHA-1, SHA-256)


class TreeEntry(NamedTuple):
    """A file or a folder in a tree: its name, the id of its content, and whether it is a file."""

    name: str
    id: str
    is_file: bool


def read_objects(
    ask: Asker, ids: Iterable[str], kind: Literal["blob", "tree"], most: int
) -> Iterator[tuple[str, bytes]]:
    """Each object of one kind, once and in order, with its content.

    Left out are those that are not there, are of another kind, or have more than `most` bytes, and what comes
    after half a gigabyte in all. Raises `SourceFailed`.
    """
    wanted = [fromkey for fromkey in dict.fromkeys(ids) if len(fromkey) in _ID_LENGTHS and fromkey.isalnum()]
    if not wanted:
        return
    told = ask(["cat-file", "--batch-check"], "".join(f"{commit}\n" for commit in wanted).encode())
    for _, group in groupby(_sized(told.text, kind, most), key=lambda found: found[1] // _TOGETHER):
        asked = "".join(f"{commit}\n" for commit, _ in group)
        yield from _parted(ask(["cat-file", "--batch"], asked.encode()).out)


def _sized(told: str, kind: str, most: int) -> Iterator[tuple[str, int]]:
    """The objects that may be read, each with the sum of the sizes up to its own."""
    together = 0
    for line in told.splitlines():
        name, _, rest = line.partition(" ")
        found, _, size = rest.partition(" ")
        if found == kind and size.isdecimal() and len(size) < len(str(_MOST)) and int(size) <= most:
            together += int(size)
            if together > _MOST:
                return
            yield name, together


def _parted(output: bytes) -> Iterator[tuple[str, bytes]]:
    """The objects in what `cat-file --batch` printed."""
    place = 0
    while (end := output.find(b"\n", place)) >= 0:
        name, _, rest = output[place:end].decode("ascii", "replace").partition(" ")
        size = rest.partition(" ")[2]
        start = end + 1
        if size.isdecimal():
            yield name, output[start : start + int(size)]
            start += int(size) + 1
        place = start


def entries_of(tree: bytes, digits: int) -> Iterator[TreeEntry]:
    """The entries of a tree object; `digits` is the length of an id in this repository."""
    place, length = 0, digits // 2
    while (end := tree.find(b"\0", place)) >= 0:
        mode, _, name = tree[place:end].partition(b" ")
        place = end + 1 + length
        yield TreeEntry(name.decode("utf-8", "replace"), tree[end + 1 : place].hex(), mode.startswith(b"100"))
