"""A release's file name: a wheel's (PEP 427) → name, version, build and tags; a source archive's (PEP 625).

Large listings hold tens of thousands of names with few distinct tags and versions, so these are parsed once
each; that is why the `packaging` library's function for whole names is not used here. A test holds the two to
the same answers.
"""

import re
from functools import lru_cache
from typing import NamedTuple

from packaging.tags import InvalidTag, parse_tag
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import InvalidVersion, Version

__all__ = ["SdistName", "WheelName", "parse_file_name", "parse_wheel_name"]

_NAME = re.compile(r"^[\w.]+\Z")
_BUILD = re.compile(r"^([0-9]+)(.*)\Z")


class WheelName(NamedTuple):
    """What a file name says; of two wheels that differ in nothing else, the higher build is the better."""

    name: NormalizedName
    version: Version
    build: tuple[int, str]
    tags: frozenset[str]


class SdistName(NamedTuple):
    """What a source archive's file name says."""

    name: NormalizedName
    version: Version


def parse_file_name(filename: str, expected: NormalizedName | None = None) -> WheelName | SdistName | str:
    """The parts of a name, or what is wrong with it.

    Old source archives may have hyphens in the library's name: the `expected` one is found in spite of them.
    """
    if filename.endswith(".whl"):
        return parse_wheel_name(filename)
    stem = filename.removesuffix(".zip").removesuffix(".tar.gz")
    parts = stem.split("-")
    for count in range(len(parts) - 1, 0, -1):
        name = canonicalize_name("-".join(parts[:count]))
        if name and (expected is None or name == expected):
            try:
                return SdistName(name, Version("-".join(parts[count:])))
            except InvalidVersion:
                continue
    return f"'{filename}' has no version"


def parse_wheel_name(filename: str) -> WheelName | str:
    """The parts of a wheel's name; or, for one that breaks the standard, what is wrong."""
    if not filename.endswith(".whl"):
        return f"'{filename}' does not end in .whl"
    parts = filename.removesuffix(".whl").split("-")
    if len(parts) not in (5, 6):
        return f"'{filename}' has {len(parts)} parts in place of 5 or 6"
    if "__" in parts[0] or not _NAME.match(parts[0]):
        return f"'{filename}' begins with no name"
    build = _BUILD.match(parts[2] if len(parts) == 6 else "0")
    if build is None:
        return f"'{filename}' has a build number that begins with no digit"
    try:
        number = (int(build[1]), build[2])
        return WheelName(_name(parts[0]), _version(parts[1]), number, _tags("-".join(parts[-3:])))
    except InvalidVersion:
        return f"'{filename}' has no version"
    except InvalidTag as error:
        return f"'{filename}': {error}"


@lru_cache(maxsize=1024)
def _name(text: str) -> NormalizedName:
    return canonicalize_name(text)


@lru_cache(maxsize=8192)
def _version(text: str) -> Version:
    return Version(text)


@lru_cache(maxsize=8192)
def _tags(text: str) -> frozenset[str]:
    return frozenset(str(tag) for tag in parse_tag(text))
