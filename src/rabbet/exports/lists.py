"""A lock as a list of requirements (PEP 508, PEP 440), and as a table for a spreadsheet."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence

from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declared
from rabbet.core.lock.marker import separating_marker
from rabbet.core.model.lock import Lock, LockedArchive, LockedCheckout, LockedCommit, LockedLibrary, Selection
from rabbet.core.model.target import Target
from rabbet.core.shown_text import comment, visible
from rabbet.exports.bill import EXPRESSION, Licence
from rabbet.formats.text.csv_text import csv_lines
from rabbet.python.choosing.select import libraries_for

__all__ = ["lock_table", "requirement_list"]


def requirement_list(lock: Lock, targets: Sequence[Target], selection: Selection, title: str) -> str:
    """All that a selection needs on these targets; a marker tells what only some of them need.

    What a list with hashes can't hold, a checkout or a commit, is named in a comment.
    """
    found: dict[LockedLibrary, set[int]] = {}
    for position, target in enumerate(targets):
        for library in libraries_for(lock, target, selection):
            found.setdefault(library, set()).add(position)
    lines = [comment(title)]
    for library, positions in sorted(found.items(), key=lambda item: (item[0].name, item[0].version)):
        lines += _lines(library, separating_marker(targets, frozenset(positions)))
    return "\n".join([*lines, ""])


def _lines(library: LockedLibrary, marker: str) -> Iterator[str]:
    origin = next(iter(library.artifacts), None)
    if isinstance(origin, LockedCheckout):
        yield comment(f"{library.name} is a checkout in {origin.path}, which has no hash")
        return
    if isinstance(origin, LockedCommit):
        yield comment(f"{library.name} is the commit {origin.commit} of {origin.url}, which has no hash")
        return
    asked = f"{library.name}=={library.version}"
    if isinstance(origin, LockedArchive) and origin.url is not None:
        asked = f"{library.name} @ {origin.url}"
    hashes = [f"--hash=sha256:{file.sha256}" for file in library.files]
    first = f"{asked} ; {marker}" if marker else asked
    yield " \\\n    ".join(map(visible, [first, *dict.fromkeys(hashes)]))


_HEADINGS = ("library", "version", "licence", "declared for", "needed by", "condition", "from")
_PROJECT = "the project"


def lock_table(lock: Lock, declared: Iterable[Declared], licence: Licence) -> str:
    """All libraries of a lock, sorted by name and version, as comma-separated values.

    A cell of several names has them in order, joined by `; `; one of nothing that is known is empty.
    """
    sections: defaultdict[NormalizedName, set[str]] = defaultdict(set)
    for requirement in declared:
        sections[requirement.need.name].add(str(requirement.section or _PROJECT))
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
        for library in sorted(lock.libraries, key=lambda library: (library.name, library.version))
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
