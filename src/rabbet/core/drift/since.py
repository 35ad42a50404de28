"""Installed × the lock's history → the revision that fits best."""

from collections.abc import Iterable, Mapping

from msgspec import Struct
from packaging.utils import NormalizedName

__all__ = ["LockRevision", "NearestRevision", "differing", "nearest_revision"]


class LockRevision(Struct, frozen=True, kw_only=True):
    """The lock as it was committed, at a time in seconds since the epoch.

    `versions` are those that it held of each library, as they are written. Libraries that it held for some
    machines or sections alone are `conditional`: that one of them is not installed says nothing.
    """

    commit: str
    when: int
    versions: Mapping[NormalizedName, frozenset[str]]
    conditional: frozenset[NormalizedName] = frozenset()


class NearestRevision(Struct, frozen=True, kw_only=True):
    """The revision that fits best, how many came after it, and the libraries in which even it differs."""

    revision: LockRevision
    newer: int
    differing: tuple[NormalizedName, ...]


def nearest_revision(
    installed: Mapping[NormalizedName, str], history: Iterable[LockRevision], now: int
) -> NearestRevision | None:
    """The newest of the revisions that differ least from what is installed, given newest first.

    `None` if none differs less than the lock of today, which differs in `now` libraries.
    """
    best: NearestRevision | None = None
    for newer, revision in enumerate(history):
        names = differing(installed, revision)
        if len(names) < (len(best.differing) if best else now):
            best = NearestRevision(revision=revision, newer=newer, differing=names)
            if not names:
                break
    return best


def differing(installed: Mapping[NormalizedName, str], revision: LockRevision) -> tuple[NormalizedName, ...]:
    """The libraries whose version differs from a revision's, or that only one of the two has."""
    versions = revision.versions
    found = [name for name, version in installed.items() if version not in versions.get(name, ())]
    found += [name for name in versions if name not in installed and name not in revision.conditional]
    return tuple(sorted(found))
