"""Core metadata of a wheel or a source archive, as far as resolving needs it."""

from email.message import Message
from email.parser import HeaderParser

from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import InvalidSpecifier, SpecifierSet
from packaging.utils import canonicalize_name
from packaging.version import InvalidVersion, Version

from rabbet.core.limits import LONGEST_TEXT
from rabbet.core.model.release import Metadata

__all__ = ["MetadataBroken", "bounded", "parse_metadata", "parse_static_metadata"]

_NEEDED = {"name", "version", "requires-dist", "requires-python", "provides-extra"}


class MetadataBroken(ValueError):
    """Metadata that can't be read; the release is then set aside, which is no failure of the command."""


def bounded(text: str) -> str:
    """The text of a field, unless it is longer than any should be. Raises `MetadataBroken`."""
    if len(text) > LONGEST_TEXT:
        raise MetadataBroken(f"a field of its metadata has {len(text)} characters: '{text[:60]}…'")
    return text


def parse_metadata(content: bytes) -> Metadata:
    """Read `METADATA`; only its header, for the description below the first blank line can be long.

    Raises `MetadataBroken`.
    """
    return _metadata(_header(content))


def _metadata(header: "Message[str, str]") -> Metadata:
    for field in ("name", "version"):
        if field not in header:
            raise MetadataBroken(f"its metadata lacks its {field}")
    try:
        return Metadata(
            name=canonicalize_name(header["name"]),
            version=Version(bounded(header["version"])),
            requires_python=SpecifierSet(bounded(header.get("requires-python", ""))),
            requirements=tuple(Requirement(bounded(text)) for text in header.get_all("requires-dist", [])),
            extras=frozenset(canonicalize_name(extra) for extra in header.get_all("provides-extra", [])),
        )
    except InvalidRequirement as error:
        text = str(error).splitlines()[1].strip()
        raise MetadataBroken(f"its metadata holds '{text}', which is no requirement") from error
    except (InvalidSpecifier, InvalidVersion) as error:
        raise MetadataBroken(f"its metadata can't be read: {error}") from error


def parse_static_metadata(content: bytes) -> Metadata:
    """Read a source archive's `PKG-INFO`, if what resolving needs is sure to be in every wheel of it too.

    That is so from metadata version 2.2 on, for all fields but those that it calls dynamic (PEP 643).
    Raises `MetadataBroken`.
    """
    header = _header(content)
    version = header.get("metadata-version", "")
    if tuple(int(part) for part in version.split(".") if part.isdecimal()) < (2, 2):
        raise MetadataBroken("its metadata is too old to be trusted without a build")
    dynamic = sorted({field.lower() for field in header.get_all("dynamic", [])} & _NEEDED)
    if dynamic:
        raise MetadataBroken(f"its {' and '.join(dynamic)} would have to be told by a build")
    return _metadata(header)


def _header(content: bytes) -> "Message[str, str]":
    return HeaderParser().parsestr(
        content.replace(b"\r\n", b"\n").partition(b"\n\n")[0].decode("utf-8", "replace")
    )
