"""A lock's text without reading all of it: the versions in it, and the sides of an unfinished merge."""

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple

from rabbet.core.needs.names import library_name
from rabbet.errors import NotUnderstood

if TYPE_CHECKING:
    from packaging.utils import NormalizedName

__all__ = ["LockedVersions", "merge_sides", "read_locked_versions"]


_ENTRY = "\n[[packages]]\n"
# As Rabbet itself writes them: most locks of a history are read by this alone.
_OWN = re.compile(r'name = "([^"]+)"\nversion = "([^"]+)"\n(marker = )?')
_NAME = re.compile(r'^name\s*=\s*["\']([^"\']+)["\']', re.MULTILINE)
_VERSION = re.compile(r'^version\s*=\s*["\']([^"\']+)["\']', re.MULTILINE)
_MARKER = re.compile(r"^marker\s*=", re.MULTILINE)
_HEAD = 600  # characters of an entry in which these stand: behind them come lists of files


class LockedVersions(NamedTuple):
    """The versions of each library, as they are written, and those libraries that have a marker.

    Others are `without_version`: checkouts, whose version may change at any time.
    """

    versions: "Mapping[NormalizedName, frozenset[str]]"
    conditional: "frozenset[NormalizedName]"
    without_version: "frozenset[NormalizedName]" = frozenset()

    @property
    def names(self) -> "frozenset[NormalizedName]":
        """All libraries."""
        return self.without_version.union(self.versions)


def read_locked_versions(text: str) -> LockedVersions:
    """Take them from the lines of each entry (PEP 751)."""
    found: dict[NormalizedName, set[str]] = {}
    conditional: set[NormalizedName] = set()
    without_version: set[NormalizedName] = set()
    place = text.find(_ENTRY)
    while place >= 0:
        begun = place + len(_ENTRY)
        following = text.find(_ENTRY, begun - 1)
        own = _OWN.match(text, begun)
        name, version, marker = own.groups() if own else _searched(text, begun, following)
        if name and version:
            known = _known(name)
            found.setdefault(known, set()).add(version)
            if marker:
                conditional.add(known)
        elif name:
            without_version.add(_known(name))
        place = following
    versions = {name: frozenset(texts) for name, texts in found.items()}
    return LockedVersions(versions, frozenset(conditional), frozenset(without_version))


def _searched(text: str, begun: int, following: int) -> tuple[str | None, str | None, bool]:
    """Name, version and whether there is a marker, wherever they stand in the head of an entry."""
    end = min(following if following >= 0 else len(text), begun + _HEAD)
    table = text.find("\n[", begun, end)
    end = table if table >= 0 else end
    name, version = _NAME.search(text, begun, end), _VERSION.search(text, begun, end)
    marker = _MARKER.search(text, begun, end) is not None
    return name and name.group(1), version and version.group(1), marker


@lru_cache(maxsize=4096)
def _known(name: str) -> "NormalizedName":
    """The names of a history's locks are mostly the same."""
    return library_name(name)


_OURS, _BASE, _MIDDLE, _THEIRS = "<<<<<<<", "|||||||", "=======", ">>>>>>>"
_FOLLOWERS = {"": (_OURS,), _OURS: (_BASE, _MIDDLE), _BASE: (_MIDDLE,), _MIDDLE: (_THEIRS,)}


def merge_sides(text: str, where: str) -> tuple[str, ...]:
    """Both sides of a merge that git left to people; of a text without its marks, that text alone.

    Lines outside of marks belong to both sides, and the common ancestor's (between `|||||||` and `=======`)
    to none.

    Raises `NotUnderstood` when the marks don't make pairs.
    """
    ours: list[str] = []
    theirs: list[str] = []
    state, marks = "", 0
    for number, line in enumerate(text.splitlines(keepends=True), 1):
        mark = _mark(line)
        if not mark:
            if state in ("", _OURS):
                ours.append(line)
            if state in ("", _MIDDLE):
                theirs.append(line)
        elif mark not in _FOLLOWERS[state]:
            raise _unpaired(where, f"line {number}: {line.rstrip()[:60]}")
        else:
            state, marks = ("" if mark == _THEIRS else mark), marks + 1
    if state:
        raise _unpaired(where, "the last one has no end")
    return ("".join(ours), "".join(theirs)) if marks else (text,)


def _mark(line: str) -> str:
    head, rest = line[:7], line[7:8]
    return head if head in (_OURS, _BASE, _MIDDLE, _THEIRS) and rest.strip() == "" else ""


def _unpaired(where: str, because: str) -> NotUnderstood:
    return NotUnderstood(
        f"{where} holds the marks of an unfinished merge, and they don't make pairs",
        because=[because],
        remedy="rabbet resolve",
    )
