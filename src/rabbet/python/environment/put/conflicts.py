"""Detect libraries that would install the same file with different content."""

from collections.abc import Iterable, Mapping
from pathlib import Path

from packaging.utils import NormalizedName

from rabbet.errors import IntegrityFailed

__all__ = ["folds_case", "refuse_conflicts"]


def folds_case(folder: Path, name: str) -> bool:
    """Whether the file system folds case, tried with a file of this lower-case name."""
    return (folder / name.upper()).exists()


def refuse_conflicts(
    files: Mapping[NormalizedName, Iterable[tuple[str, str | None]]], *, fold_case: bool
) -> None:
    """Check the places and digests of each library's files; `fold_case`: `A` and `a` are one place.

    Files of the same content may be shared, as some libraries of one family do; those without a digest are
    Python's own by-products.
    Raises `IntegrityFailed`, naming both libraries.
    """
    owners: dict[str, tuple[NormalizedName, str, str]] = {}
    for name, placed in sorted(files.items()):
        for place, sha256 in placed:
            if sha256 is None:
                continue
            key = place.casefold() if fold_case else place
            owner, content, first = owners.setdefault(key, (name, sha256, place))
            if content != sha256 or first != place:
                raise _conflict((owner, first), (name, place))


def _conflict(claim: tuple[NormalizedName, str], other: tuple[NormalizedName, str]) -> IntegrityFailed:
    (name, place), (other_name, other_place) = claim, other
    both = name if name == other_name else f"{name} and {other_name}"
    reason = f"both bring {place}, each with other content"
    if place != other_place:
        reason = f"this file system takes {place} and {other_place} for the same file"
    return IntegrityFailed(
        f"{both} can't be installed {'here' if name == other_name else 'together'}",
        because=[reason],
        note="keep one of them, or a release without that file",
        remedy=f"rabbet explain {name if other_name.startswith('runtime ') else other_name}",
    )
