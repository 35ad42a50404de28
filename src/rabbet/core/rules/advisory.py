"""An advisory about one library, and which versions it affects (the OSV schema, "Evaluation").

Versions are compared without their local part: what somebody built of 1.2 is 1.2.
"""

import re
from collections.abc import Iterable, Sequence
from functools import lru_cache
from itertools import zip_longest
from typing import Literal, NamedTuple

from msgspec import Struct
from packaging.version import InvalidVersion, Version

__all__ = ["Advisory", "AffectedRange", "Bound", "affects", "joined", "mended_since"]

BoundKind = Literal["introduced", "fixed", "last_affected", "limit"]
# Semantic Versioning 2.0.0, "Is there a suggested regular expression".
_SEMVER = re.compile(
    r"v?(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})\.(0|[1-9]\d{0,17})(?:-([0-9A-Za-z.-]+))?(?:\+[0-9A-Za-z.-]+)?\Z"
)
_FIRST = "0"  # stands for a version before all others
_PRE = {"a": "alpha", "b": "beta", "rc": "rc"}
_ORDER: tuple[BoundKind, ...] = ("fixed", "last_affected", "introduced", "limit")  # among equal versions


class Bound(NamedTuple):
    """An event of a range: from, or up to, a version."""

    kind: BoundKind
    version: str


class AffectedRange(Struct, frozen=True, array_like=True):
    """Versions between bounds, in the order of PEP 440 (the schema's `ECOSYSTEM`), or of `semver`."""

    semver: bool
    bounds: tuple[Bound, ...]


class Advisory(Struct, frozen=True, kw_only=True):
    """What a record says of one library: versions in `ranges`, and those that are listed one by one.

    `vectors` are severities as CVSS vectors. Times are in ISO form. Records with a common id or alias are
    about the same vulnerability.
    """

    id: str
    aliases: tuple[str, ...] = ()
    summary: str = ""
    published: str = ""
    modified: str = ""
    vectors: tuple[str, ...] = ()
    ranges: tuple[AffectedRange, ...] = ()
    versions: tuple[str, ...] = ()
    references: tuple[str, ...] = ()

    @property
    def ids(self) -> tuple[str, ...]:
        """Its id and its aliases."""
        return tuple(dict.fromkeys((self.id, *self.aliases)))


def affects(advisory: Advisory, version: Version) -> bool:
    """Whether a version is listed or in a range. Raises `ValueError` for bounds that are no versions."""
    public = _public(version)
    if any(_is(text, public) for text in advisory.versions):
        return True
    return any(_inside(affected, public) for affected in advisory.ranges)


def check(advisory: Advisory) -> None:
    """Raise `ValueError` for bounds that can't be compared."""
    for affected in advisory.ranges:
        for bound in affected.bounds:
            _key(bound.version, semver=affected.semver)


def mended_since(advisories: Sequence[Advisory], version: Version) -> Version | None:
    """The lowest version above this one that an advisory calls fixed and none of them affects."""
    fixed: set[Version] = set()
    for advisory in advisories:
        for affected in advisory.ranges:
            for bound in affected.bounds:
                if bound.kind == "fixed":
                    found = _as_version(bound.version)
                    if found is not None and found > version:
                        fixed.add(found)
    return next((one for one in sorted(fixed) if not any(affects(known, one) for known in advisories)), None)


def joined(advisories: Iterable[Advisory]) -> list[tuple[Advisory, ...]]:
    """Advisories in groups, each about one vulnerability: a common id or alias joins them, in any steps.

    Groups and their members are sorted by id.
    """
    root: dict[str, str] = {}

    def find(name: str) -> str:
        while root.setdefault(name, name) != name:
            root[name] = root[root[name]]
            name = root[name]
        return name

    known = sorted(advisories, key=lambda advisory: advisory.id)
    for advisory in known:
        for other in advisory.ids:
            first, second = sorted((find(advisory.id), find(other)))
            root[second] = first
    groups: dict[str, list[Advisory]] = {}
    for advisory in known:
        groups.setdefault(find(advisory.id), []).append(advisory)
    return [tuple(group) for group in groups.values()]


def _inside(affected: AffectedRange, version: Version) -> bool:
    """Whether a version lies in a range: each bound up to it changes whether it does."""
    here = _key_of(version, semver=affected.semver)
    placed = [(_key(bound.version, semver=affected.semver), bound.kind) for bound in affected.bounds]
    limits = [place for place, kind in placed if kind == "limit"]
    if limits and not any(here < place for place in limits):
        return False
    placed.sort(key=lambda pair: (pair[0], _ORDER.index(pair[1])))
    found = False
    for place, kind in placed:
        if kind == "introduced" and here >= place:
            found = True
        elif (kind == "fixed" and here >= place) or (kind == "last_affected" and here > place):
            found = False
    return found


class _Place:
    """A version in an order of its own; the first of all is below every other one."""

    __slots__ = ("_value",)

    def __init__(self, value: Version | tuple[object, ...] | None) -> None:
        self._value = value

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Place) and self._value == other._value

    def __hash__(self) -> int:
        return hash(self._value)

    def __lt__(self, other: "_Place") -> bool:
        if self._value is None or other._value is None:
            return self._value is None and other._value is not None
        if isinstance(self._value, tuple) and isinstance(other._value, tuple):
            return _before(self._value, other._value)
        return self._value < other._value  # type: ignore[operator]  # a range has one order

    def __le__(self, other: "_Place") -> bool:
        return self == other or self < other

    def __gt__(self, other: "_Place") -> bool:
        return other < self

    def __ge__(self, other: "_Place") -> bool:
        return other <= self


@lru_cache(maxsize=65536)
def _key(text: str, *, semver: bool) -> _Place:
    """Where a bound lies. Raises `ValueError`."""
    if text == _FIRST:
        return _Place(None)
    if not semver:
        return _Place(Version(text))
    found = _SEMVER.match(text)
    if found is None:
        raise ValueError(f"'{text[:60]}' is not a semantic version")
    return _Place((*map(int, found.groups()[:3]), found[4] or ""))


def _key_of(version: Version, *, semver: bool) -> _Place:
    """Where a version of a library lies; as a semantic version, `2.0rc1` is `2.0.0-rc.1`."""
    if not semver:
        return _Place(version)
    early = []
    if version.is_devrelease:
        early.append(f"dev.{version.dev}")
    if version.pre:
        early.insert(0, f"{_PRE[version.pre[0]]}.{version.pre[1]}")
    return _Place((*(*version.release, 0, 0)[:3], ".".join(early)))


def _before(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """The precedence of semantic versions (section 11)."""
    if one[:3] != other[:3]:
        return one[:3] < other[:3]
    first, second = str(one[3]), str(other[3])
    if not (first and second):
        return bool(first) and not second  # what is released comes after what was before
    for a, b in zip_longest(first.split("."), second.split(".")):
        if a != b:
            return _identifier(a) < _identifier(b)
    return False


def _identifier(text: str | None) -> tuple[int, int, str]:
    """Its rank: none comes before numbers, and these before texts."""
    if text is None:
        return 0, 0, ""
    return (1, int(text), "") if text.isdecimal() and len(text) < 19 else (2, 0, text)


@lru_cache(maxsize=4096)
def _as_version(text: str) -> Version | None:
    try:
        return Version(text)
    except InvalidVersion:
        return None


def _is(text: str, version: Version) -> bool:
    found = _as_version(text)
    return found is not None and _public(found) == version


def _public(version: Version) -> Version:
    return Version(version.public) if version.local else version
