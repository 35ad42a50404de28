"""A list of wheels that were built from source, each with all that its build followed from, as JSON.

    {"schema": "rabbet.builds/1", "wheels": [{"name": "queenmark", "version": "1.2", "filename": …,
     "sha256": …, "size": …, "facts": {"source": …, "runtime": …, "environment": …}}]}

What a build followed from is its identity, by the digest of these facts: nothing else says whose it is.
"""

import hashlib
import json
from collections.abc import Iterable, Mapping
from typing import TypeAlias

import msgspec
from msgspec import Struct

from rabbet.core.limits import LONGEST_TEXT, MOST_FILES, UNREADABLE, is_size
from rabbet.formats.text.requirement import is_sha256
from rabbet.python.choosing.file_name import BadFileName, parse_wheel_name

__all__ = [
    "BUILDS_FILE",
    "BuiltWheel",
    "Facts",
    "NotBuiltWheels",
    "built_wheels_text",
    "identity_of",
    "read_built_wheels",
]

BUILDS_FILE = "builds.json"
_SCHEMA = "rabbet.builds/1"
_DIGITS = 16  # of a digest, in names of folders

Facts: TypeAlias = Mapping[str, object]
"""What a build followed from (`python/builds/identity.py`), as JSON holds it."""


def identity_of(facts: Facts) -> str:
    """The digest of what a build followed from."""
    return hashlib.sha256(json.dumps(facts, sort_keys=True).encode()).hexdigest()


class NotBuiltWheels(ValueError):
    """The content is no list of built wheels that this Rabbet can read; the text says why."""


class BuiltWheel(Struct, frozen=True, kw_only=True):
    """A wheel, and the facts that its build followed from; `size` is in bytes."""

    name: str
    version: str
    filename: str
    sha256: str
    size: int
    facts: dict[str, object]

    @property
    def identity(self) -> str:
        """The identity of the build."""
        return identity_of(self.facts)

    @property
    def place(self) -> str:
        """Where it lies beside its list."""
        return f"wheels/{self.sha256[:_DIGITS]}/{self.filename}"


class _List(Struct):
    schema: str
    wheels: list[BuiltWheel]


_DECODER = msgspec.json.Decoder(_List)


def read_built_wheels(content: bytes) -> tuple[BuiltWheel, ...]:
    """The wheels of a list. Raises `NotBuiltWheels`."""
    try:
        read = _DECODER.decode(content)
    except (msgspec.MsgspecError, *UNREADABLE) as error:
        raise NotBuiltWheels(str(error)) from error
    if read.schema != _SCHEMA:
        raise NotBuiltWheels(f"its schema is {read.schema[:60]!r}, and this Rabbet reads {_SCHEMA}")
    if len(read.wheels) > MOST_FILES:
        raise NotBuiltWheels(f"it lists more than {MOST_FILES} wheels")
    for wheel in read.wheels:
        wrong = _wrong(wheel)
        if wrong:
            raise NotBuiltWheels(f"{wheel.filename[:LONGEST_TEXT]!r}: {wrong}")
    return tuple(read.wheels)


def _wrong(wheel: BuiltWheel) -> str:
    try:
        parse_wheel_name(wheel.filename)
    except BadFileName as error:
        return str(error)
    if not is_sha256(wheel.sha256):
        return "its digest is not one"
    return "" if is_size(wheel.size) else "its size is not one"


def built_wheels_text(wheels: Iterable[BuiltWheel]) -> str:
    """The list as it is written: sorted, so that the same wheels give the same text."""
    ordered = sorted(wheels, key=lambda wheel: (wheel.name, wheel.version, wheel.filename, wheel.sha256))
    content = msgspec.json.encode(_List(schema=_SCHEMA, wheels=ordered), order="sorted")
    return msgspec.json.format(content, indent=1).decode() + "\n"
