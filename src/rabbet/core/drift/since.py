"""Installed × the lock's history → the revision that fits best; what each revision changed."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import pairwise

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import InvalidVersion, Version

__all__ = [
    "LockRevision",
    "NearestRevision",
    "RevisionChanges",
    "VersionsChange",
    "changes_of",
    "differing",
    "nearest_revision",
    "newest_first",
]


class LockRevision(Struct, frozen=True, kw_only=True):
    """The lock as it was committed, by whom, and when (seconds since the epoch); today's has no commit.

    `versions` are those that it held of each library, as they are written. Libraries that it held for some
    machines or sections alone are `conditional`: that one of them is not installed says nothing.
    """

    commit: str
    when: int
    versions: Mapping[NormalizedName, frozenset[str]]
    conditional: frozenset[NormalizedName] = frozenset()
    author: str = ""


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


class VersionsChange(Struct, frozen=True, kw_only=True):
    """A library whose versions changed: those before and after, the newest first; it may have had none."""

    name: NormalizedName
    before: tuple[str, ...]
    after: tuple[str, ...]


class RevisionChanges(Struct, frozen=True, kw_only=True):
    """What one revision changed."""

    revision: LockRevision
    changes: tuple[VersionsChange, ...]


def changes_of(revisions: Sequence[LockRevision]) -> Iterator[RevisionChanges]:
    """The revisions that differ from the one before them, given newest first; the last one is the base."""
    for new, old in pairwise(revisions):
        changes = tuple(
            VersionsChange(name=name, before=before, after=after)
            for name in sorted({*old.versions, *new.versions})
            for before in [newest_first(old.versions.get(name, ()))]
            for after in [newest_first(new.versions.get(name, ()))]
            if before != after
        )
        if changes:
            yield RevisionChanges(revision=new, changes=changes)


def newest_first(versions: Iterable[str]) -> tuple[str, ...]:
    """Versions as they are written, the newest first; texts that are no versions come last."""

    def rank(text: str) -> tuple[bool, Version, str]:
        try:
            return True, Version(text), text
        except InvalidVersion:
            return False, Version("0"), text

    return tuple(sorted(versions, key=rank, reverse=True))
