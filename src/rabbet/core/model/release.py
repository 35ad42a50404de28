"""Files that sources offer, the releases they make up, and the metadata of one release."""

from functools import cached_property
from typing import NamedTuple

from msgspec import Struct
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.lock import LockedCheckout, LockedCommit
from rabbet.core.needs.need import Need

# The name, as of a source, of what comes from an address that a requirement itself names.
DECLARED_ADDRESS = "declared address"

__all__ = ["DECLARED_ADDRESS", "Candidate", "ListedFile", "Listing", "Metadata", "Rejected", "SourceTree"]


class ListedFile(NamedTuple):
    """One file as a source lists it: a wheel, or a source archive, which has no `tags`.

    It is a tuple because large listings hold tens of thousands: these are made by one call in C.
    `location` is an absolute URL, or a path for a folder. `size` is in bytes and `sha256` in hexadecimal
    digits; both are `None` until known. `metadata_sha256` is the digest of the metadata file beside it
    (PEP 658), empty when that file is offered without one, `None` when it is not offered.
    `uploaded` is the moment in ISO form (PEP 700).
    `yanked` is the reason given (PEP 592), `None` when the file is not yanked.
    """

    filename: str
    name: NormalizedName
    version: Version
    build: tuple[int, str]
    tags: frozenset[str] | None
    location: str
    source: str
    size: int | None = None
    sha256: str | None = None
    requires_python: str | None = None
    metadata_sha256: str | None = None
    uploaded: str | None = None
    yanked: str | None = None

    @property
    def is_wheel(self) -> bool:
        """Whether it can be installed as it is."""
        return self.tags is not None


class Rejected(Struct, frozen=True, kw_only=True):
    """A release that can't be chosen, and why; `unbuilt`: it would have to be built from its source.

    `baseline` is the one, such as `glibc=2.34`, that stands alone in its way. It may be `ruled` out by a rule
    on what may be locked.
    """

    version: str
    reason: str
    unbuilt: bool = False
    baseline: str = ""
    ruled: bool = False

    def newer_than(self, version: Version) -> bool:
        """Whether it would have been preferred; it may be known by its file's name only."""
        try:
            return Version(self.version) > version and not Version(self.version).is_prerelease
        except ValueError:
            return False


class SourceTree(Struct, frozen=True, kw_only=True):
    """A release that is no file but a tree of sources: a checkout, or a commit of a repository.

    Its metadata was read from it without running anything of it.
    """

    name: NormalizedName
    version: Version
    metadata: "Metadata"
    locked: LockedCheckout | LockedCommit


class Listing(Struct, frozen=True, kw_only=True, dict=True):
    """All that one source lists for one library, and what it lists that can't be used.

    It has a `__dict__`, for it remembers how its files are grouped: each target asks for that.
    """

    name: NormalizedName
    source: str
    files: tuple[ListedFile, ...] = ()
    trees: tuple[SourceTree, ...] = ()
    rejected: tuple[Rejected, ...] = ()

    @cached_property
    def kinds(self) -> tuple[tuple[frozenset[str] | None, str | None], ...]:
        """The tags of its files with what they say of Python, each pair once: all that targets differ in."""
        return tuple(dict.fromkeys((file.tags, file.requires_python) for file in self.files))

    @cached_property
    def by_version(self) -> tuple[tuple[list[ListedFile], list[ListedFile]], ...]:
        """The wheels and the source archives of each of its versions, the lowest first."""
        found: dict[Version, tuple[list[ListedFile], list[ListedFile]]] = {}
        version, lists = None, None
        for file in self.files:
            if file.version is not version or lists is None:  # files of one release mostly stand together
                version = file.version
                lists = found.setdefault(version, ([], []))
            lists[file.tags is None].append(file)
        return tuple(found[version] for version in sorted(found))


class Candidate(NamedTuple):
    """One release that could be chosen, and what it could be had from.

    These are its wheels that fit the target, the best first, and behind them perhaps a source archive; or a
    tree of sources. `doubles` are files left out because another one has the same version, build and tags.
    Like `ListedFile`, it is made by the thousands.
    """

    name: NormalizedName
    version: Version
    source: str
    offered: tuple[ListedFile, ...] | SourceTree
    doubles: tuple[str, ...] = ()

    @property
    def only_source(self) -> bool:
        """Whether a source archive is all that is offered; only a build may tell what it needs."""
        return bool(self.files) and not any(file.is_wheel for file in self.files)

    @property
    def files(self) -> tuple[ListedFile, ...]:
        """The files among what is offered; the one that tells its metadata comes first."""
        return () if isinstance(self.offered, SourceTree) else self.offered

    @property
    def yanked(self) -> bool:
        """Whether every file that could be used was yanked (PEP 592)."""
        files = self.files
        return bool(files) and files[0].yanked is not None and all(file.yanked is not None for file in files)

    @property
    def withdrawn(self) -> str | None:
        """The reason that was given for yanking it, if it was."""
        return self.files[0].yanked if self.yanked else None

    def __str__(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}"


class Metadata(Struct, frozen=True, kw_only=True):
    """A wheel's core metadata; requirements that can't be read are `unread`."""

    name: NormalizedName
    version: Version
    requires_python: SpecifierSet
    needs: tuple[Need, ...]
    extras: frozenset[NormalizedName]
    unread: tuple[str, ...] = ()
