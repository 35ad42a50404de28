"""A lock as a plain list of requirements with hashes and markers, one pin a line (PEP 508, PEP 440)."""

from collections.abc import Iterator, Sequence

from rabbet.core.lock.marker import separating_marker
from rabbet.core.model.lock import Lock, LockedArchive, LockedCheckout, LockedCommit, LockedLibrary, Selection
from rabbet.core.model.target import Target
from rabbet.core.shown_text import comment, visible
from rabbet.python.choosing.select import libraries_for

__all__ = ["requirement_list"]


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
