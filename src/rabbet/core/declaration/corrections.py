"""Corrections that a declaration makes to the requirements of releases."""

import re
from collections.abc import Iterable, Iterator

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import Correction, Declaration
from rabbet.core.model.release import Metadata
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need

_NAME = re.compile(r"\s*([A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?)")

__all__ = ["corrected", "corrections_of", "unused_corrections"]


def corrections_of(declaration: Declaration, name: NormalizedName, version: Version) -> Iterator[Correction]:
    """Those that apply to a release."""
    for correction in declaration.corrections:
        applies = correction.applies_to.name == name
        if applies and correction.applies_to.specifier.contains(version, prereleases=True):
            yield correction


def corrected(metadata: Metadata, declaration: Declaration) -> Metadata:
    """Metadata with the needs that the declaration adds, without those that it drops or keeps out."""
    drop = set(declaration.without)
    add: list[Need] = []
    for correction in corrections_of(declaration, metadata.name, metadata.version):
        drop |= correction.drop
        add += correction.add
    if not drop and not add:
        return metadata
    kept = [need for need in metadata.needs if need.name not in drop]
    unread = tuple(text for text in metadata.unread if _name_in(text) not in drop)
    return replace(metadata, needs=(*kept, *add), unread=unread)


def _name_in(text: str) -> NormalizedName | None:
    """The name at the start of a requirement that can't be read."""
    found = _NAME.match(text)
    return library_name(found.group(1)) if found else None


def unused_corrections(declaration: Declaration, chosen: Iterable[Metadata]) -> Iterator[Correction]:
    """Corrections that change nothing in what these releases say: it may have been mended there."""
    for metadata in chosen:
        said = {str(need) for need in metadata.needs}
        for correction in corrections_of(declaration, metadata.name, metadata.version):
            kept = [need for need in metadata.needs if need.name not in correction.drop]
            read = not any(_name_in(text) in correction.drop for text in metadata.unread)
            if read and {str(need) for need in (*kept, *correction.add)} == said:
                yield correction
