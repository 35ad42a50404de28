"""Core metadata of a wheel or source archive, as far as resolving needs it; where one came from (PEP 610)."""

import json
import re
from collections.abc import Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from packaging.requirements import InvalidRequirement
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.limits import MOST_METADATA, MOST_NEEDS, UNREADABLE, beyond
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import is_name, library_name
from rabbet.core.needs.need import Need
from rabbet.formats.text.address import parse_address
from rabbet.formats.text.requirement import read_requirement

if TYPE_CHECKING:
    from email.message import Message

__all__ = [
    "MetadataBroken",
    "bounded",
    "header_text",
    "licence_of",
    "needs_of",
    "parse_metadata",
    "parse_static_metadata",
    "read_direct_url",
    "release_notes",
    "whole",
]


_NEEDED = {"name", "version", "requires-dist", "requires-python", "provides-extra"}


_WORTH_KEEPING = 50_000  # characters of a header; longer ones are rare, and would take up the memory
_NEWS = ("releasenotes", "changelog", "changes", "whatsnew", "history")
_NO_LABEL = re.compile(r"[^A-Za-z0-9]")  # what a label is compared without
_METADATA_VERSION = re.compile(r"[0-9]{1,3}\.[0-9]{1,3}\Z")


class MetadataBroken(ValueError):
    """Metadata that can't be read; the release is then set aside, which is no failure of the command."""


def bounded(text: str) -> str:
    """The text of a field, unless it is beyond what people write. Raises `MetadataBroken`."""
    if not isinstance(text, str):
        raise MetadataBroken(f"a field of its metadata is not text: {str(text)[:60]}")
    reason = beyond(text)
    if reason:
        raise MetadataBroken(f"a field of its metadata can't be read: {reason}: '{text[:60]}…'")
    return text


def needs_of(texts: Sequence[str]) -> tuple[Need, ...]:
    """The requirements that metadata lists. Raises `MetadataBroken`."""
    _refuse_too_many(texts)
    return tuple(map(_need, texts))


def _needs_and_unread(texts: Sequence[str]) -> tuple[tuple[Need, ...], tuple[str, ...]]:
    """The requirements that can be read, and the texts of others. Raises `MetadataBroken` beyond bounds."""
    _refuse_too_many(texts)
    needs, unread = [], []
    for text in texts:
        try:
            needs.append(_need(text))
        except MetadataBroken:
            unread.append(bounded(text))
    return tuple(needs), tuple(unread)


def _refuse_too_many(texts: Sequence[str]) -> None:
    if len(texts) > MOST_NEEDS:
        raise MetadataBroken(f"its metadata lists {len(texts)} requirements, more than any library has")


def _need(text: str) -> Need:
    try:
        return read_requirement(bounded(text))
    except InvalidRequirement as error:
        raise MetadataBroken(f"its metadata holds '{text.strip()}', which is not a requirement") from error
    except MetadataBroken:
        raise
    except ValueError as error:
        raise MetadataBroken(f"its metadata holds '{text.strip()}': {error}") from error


def whole(metadata: Metadata) -> Metadata:
    """The same, if all of its requirements could be read, or a correction dropped them.

    Raises `MetadataBroken`.
    """
    needs_of(metadata.unread)
    return metadata


def parse_metadata(content: bytes) -> Metadata:
    """Read `METADATA`; only its header, for the description below the first blank line can be long.

    Requirements that can't be read are among its `unread` ones: a correction may drop them, and `whole`
    refuses what is left. Raises `MetadataBroken`.
    """
    text = header_text(content)
    return _known_metadata(text) if len(text) < _WORTH_KEEPING else _metadata(_header(text))


@lru_cache(maxsize=1024)
def _known_metadata(header: str) -> Metadata:
    """Read it once: an environment's is looked at before it is changed and afterwards."""
    return _metadata(_header(header))


def _metadata(header: "Message[str, str]") -> Metadata:
    for field in ("name", "version"):
        if field not in header:
            raise MetadataBroken(f"its metadata lacks its {field}")
    if not is_name(header["name"]):
        raise MetadataBroken(f"'{header['name'][:60]}' in its metadata is not a name")
    needs, unread = _needs_and_unread(header.get_all("requires-dist", []))
    try:
        return Metadata(
            name=library_name(header["name"]),
            version=Version(bounded(header["version"])),
            requires_python=SpecifierSet(bounded(header.get("requires-python", ""))),
            needs=needs,
            extras=frozenset(library_name(extra) for extra in header.get_all("provides-extra", [])),
            unread=unread,
        )
    except MetadataBroken:
        raise
    except UNREADABLE as error:
        raise MetadataBroken(f"its metadata can't be read: {error}") from error


def parse_static_metadata(content: bytes) -> Metadata:
    """Read a source archive's `PKG-INFO`, if every field that resolving needs is static.

    That is so from metadata version 2.2 on, for all fields but those that it calls dynamic (PEP 643).
    Raises `MetadataBroken`.
    """
    header = _header(header_text(content))
    version = header.get("metadata-version", "")
    if not _METADATA_VERSION.match(version) or tuple(map(int, version.split("."))) < (2, 2):
        raise MetadataBroken("its metadata is too old to be trusted without a build")
    dynamic = sorted({field.lower() for field in header.get_all("dynamic", [])} & _NEEDED)
    if dynamic:
        raise MetadataBroken(f"its {' and '.join(dynamic)} would have to come from a build")
    return _metadata(header)


def release_notes(content: bytes) -> str:
    """The address where a release tells what is new, by its well-known label (PEP 753); empty if none."""
    addresses = {}
    for line in _header(header_text(content)).get_all("project-url", []):
        label, _, address = str(line).partition(",")
        addresses[_NO_LABEL.sub("", label).lower()] = address.strip()
    return next((addresses[label] for label in _NEWS if addresses.get(label, "").startswith("http")), "")


def licence_of(content: bytes) -> str:
    """The licence that a release states: `SPDX:` and an expression (PEP 639), a name, or empty."""
    header = _header(header_text(content))
    expression = str(header.get("license-expression", "")).strip()
    if expression and beyond(expression) is None:
        return f"SPDX:{expression}"
    told = [
        str(classifier).rpartition("::")[2].strip()
        for classifier in header.get_all("classifier", [])
        if str(classifier).startswith("License ::")
    ]
    short = str(header.get("license", "")).strip().partition("\n")[0]
    return ", ".join(told) or (short if beyond(short) is None else "")


def header_text(content: bytes) -> str:
    """The fields of metadata, without what describes it. Raises `MetadataBroken` for more than any has."""
    if len(content) > MOST_METADATA:
        raise MetadataBroken(f"its metadata has {len(content)} bytes, more than any should")
    return content.replace(b"\r\n", b"\n").partition(b"\n\n")[0].decode("utf-8", "replace")


def _header(text: str) -> "Message[str, str]":
    from email.parser import HeaderParser  # here: it takes long to import, and not every command reads any

    try:
        return HeaderParser().parsestr(text)
    except (ValueError, RecursionError, LookupError) as error:
        raise MetadataBroken(f"its metadata can't be read: {error}") from error


def read_direct_url(text: str) -> str:
    """The address without credentials, with the commit behind it where it is one.

    Raises `ValueError` for what is no such file.
    """
    try:
        told = json.loads(text)
        address = parse_address(told["url"]).text
        commit = told.get("vcs_info", {}).get("commit_id", "")
    except (KeyError, TypeError, AttributeError, *UNREADABLE) as error:
        raise ValueError(f"it tells no address: {type(error).__name__}") from error
    return f"{address} at {commit}" if isinstance(commit, str) and commit else address
