"""A lock as a table for a spreadsheet: a row a library, with its licence, and why it is there."""

from collections import defaultdict
from collections.abc import Iterable

from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declared
from rabbet.core.model.lock import Lock, LockedCheckout, LockedCommit, LockedLibrary
from rabbet.exports.bill import EXPRESSION, Licence
from rabbet.formats.text.csv_text import csv_lines

__all__ = ["lock_table"]

_HEADINGS = ("library", "version", "licence", "declared for", "needed by", "condition", "from")
_PROJECT = "the project"


def lock_table(lock: Lock, declared: Iterable[Declared], licence: Licence) -> str:
    """All libraries of a lock, sorted by name and version, as comma-separated values.

    A cell of several names has them in order, joined by `; `; one of nothing that is known is empty.
    """
    sections: defaultdict[NormalizedName, set[str]] = defaultdict(set)
    for one in declared:
        sections[one.need.name].add(str(one.section or _PROJECT))
    requirers: defaultdict[NormalizedName, set[str]] = defaultdict(set)
    for library in lock.libraries:
        for name in library.dependencies:
            requirers[name].add(library.name)
    rows = [
        (
            library.name,
            str(library.version),
            licence(library).removeprefix(EXPRESSION),
            "; ".join(sorted(sections[library.name])),
            "; ".join(sorted(requirers[library.name])),
            library.marker or "",
            _origin(library),
        )
        for library in sorted(lock.libraries, key=lambda one: (one.name, one.version))
    ]
    return "\n".join([*csv_lines(_HEADINGS, rows), ""])


def _origin(library: LockedLibrary) -> str:
    """The index, or whatever it comes from."""
    origin = next(iter(library.artifacts), None)
    if isinstance(origin, LockedCheckout):
        return origin.path
    if isinstance(origin, LockedCommit):
        return f"{origin.url}, commit {origin.commit}"
    return library.index or (origin.url or origin.path or origin.filename if origin else "")
