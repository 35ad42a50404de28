"""The names and versions in a lock's text, without reading all of it: histories hold thousands of locks."""

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

from packaging.utils import NormalizedName

from rabbet.core.needs.need import library_name

__all__ = ["LockedVersions", "read_locked_versions"]

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

    versions: Mapping[NormalizedName, frozenset[str]]
    conditional: frozenset[NormalizedName]
    without_version: frozenset[NormalizedName] = frozenset()

    @property
    def names(self) -> frozenset[NormalizedName]:
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
    versions = {name: frozenset(one) for name, one in found.items()}
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
def _known(name: str) -> NormalizedName:
    """The names of a history's locks are mostly the same."""
    return library_name(name)
