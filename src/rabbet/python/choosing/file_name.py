"""A release's file name: a wheel's (PEP 427) → name, version, build and tags; a source archive's (PEP 625).

Large listings hold tens of thousands of names with few distinct tags and versions, so these are parsed once
each; that is why the `packaging` library's function for whole names is not used here. A test holds the two to
the same answers.
"""

import re
from functools import lru_cache
from math import prod
from typing import NamedTuple

from packaging.tags import InvalidTag, parse_tag
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

from rabbet.core.limits import MOST_TAGS
from rabbet.core.model.release import ListedFile
from rabbet.core.needs.names import library_name

__all__ = ["BadFileName", "FileName", "listed_file", "parse_file_name", "parse_wheel_name"]

_LONGEST = 255  # characters, which no file system exceeds
_PLAIN = re.compile(r"[\w.+!~-]+\Z")  # what names of files consist of
_NAME = re.compile(r"^[\w.]+\Z")
_BUILD = re.compile(r"^([0-9]{1,15})([^0-9].*)?\Z")


class BadFileName(ValueError):
    """A name that breaks the standard; its text says in what."""


class _Nameless(ValueError):
    """The part before the tags has no name, or no build number where one should be."""


class FileName(NamedTuple):
    """A file name, taken apart; of two otherwise equal wheels the higher build number wins.

    A source archive has no tags.
    """

    name: NormalizedName
    version: Version
    build: tuple[int, str] = (0, "")
    tags: frozenset[str] | None = None


def listed_file(parts: FileName, filename: str, location: str, source: str) -> ListedFile:
    """A file of which no more is known than its name and place."""
    return ListedFile(filename, *parts, location=location, source=source)


def parse_file_name(filename: str, expected: NormalizedName | None = None) -> FileName:
    """The parts of a name. Raises `BadFileName`.

    Old source archives may have hyphens in the library's name: the `expected` one is found in spite of them.
    """
    if filename.endswith(".whl"):
        return parse_wheel_name(filename)
    _check_form(filename)
    stem = filename.removesuffix(".zip").removesuffix(".tar.gz")
    parts = stem.split("-")
    for count in range(len(parts) - 1, 0, -1):
        name = _canonical("-".join(parts[:count]))
        if name and (expected is None or name == expected):
            try:
                return FileName(name, _version("-".join(parts[count:])))
            except InvalidVersion:
                continue
    raise BadFileName(f"'{filename}' has no version")


def parse_wheel_name(filename: str) -> FileName:
    """The parts of a wheel's name. Raises `BadFileName`."""
    if not filename.endswith(".whl"):
        raise BadFileName(f"'{filename}' does not end in .whl")
    _check_form(filename)
    hyphens = filename.count("-")
    if hyphens not in (4, 5):
        raise BadFileName(f"'{filename}' has {hyphens + 1} parts in place of 5 or 6")
    release, python, abi, platform = filename[:-4].rsplit("-", 3)
    try:
        return FileName(*_release(release), _tags(python, abi, platform))
    except InvalidVersion as error:
        raise BadFileName(f"'{filename}' has no version") from error
    except (InvalidTag, _Nameless) as error:
        raise BadFileName(f"'{filename[:60]}': {error}") from error


def _check_form(filename: str) -> None:
    if len(filename) > _LONGEST:
        raise BadFileName(f"'{filename[:60]}…' is longer than a file's name may be")
    if not _PLAIN.match(filename):
        raise BadFileName(f"'{filename}' holds what no name of a wheel or a source archive has")


@lru_cache(maxsize=1024)
def _canonical(name: str) -> NormalizedName:
    return library_name(name)


@lru_cache(maxsize=8192)
def _release(text: str) -> tuple[NormalizedName, Version, tuple[int, str]]:
    """The part before the tags: name, version and perhaps a build number."""
    name, version, *numbers = text.split("-")
    if "__" in name or not _NAME.match(name):
        raise _Nameless("it begins with no name")
    build = _BUILD.match(numbers[0] if numbers else "0")
    if build is None:
        raise _Nameless("its build number is not one")
    return _canonical(name), _version(version), (int(build[1]), build[2] or "")


@lru_cache(maxsize=8192)
def _version(text: str) -> Version:
    return Version(text)


@lru_cache(maxsize=8192)
def _tags(*parts: str) -> frozenset[str]:
    """The tags that the parts stand for, each of which may name several."""
    if prod(part.count(".") + 1 for part in parts) > MOST_TAGS:
        raise InvalidTag("its name expands to more than 200 tags")
    return frozenset(str(tag) for tag in parse_tag("-".join(parts)))
