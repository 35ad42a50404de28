"""Libraries that are no files but trees of sources: commits of repositories, and checkouts on this machine.

What they need is read from their `pyproject.toml`; nothing of them is run.
"""

import os
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple, TypeAlias

from packaging.utils import NormalizedName

from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.model.lock import LockedCheckout, LockedCommit
from rabbet.core.model.release import Listing, Metadata, Rejected, SourceTree
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import Address, parse_address
from rabbet.net.git.remote_repository import RemoteRepository
from rabbet.python.formats.metadata import MetadataBroken
from rabbet.python.formats.static_metadata import metadata_of_tree, name_of_tree

__all__ = ["CheckoutSource", "Reference", "RepositorySource", "ToldByBuild", "reference_to"]


ToldByBuild: TypeAlias = Callable[[NormalizedName, LockedCommit | LockedCheckout], Metadata | None]
"""Metadata of a library from its build; `None` when it may not be built."""


class _TreeSource:
    """The base of sources that know a few libraries by name and have no files.

    `told_by_build` gives what only a build can tell of one; `None` where it may not be built.
    """

    name: str
    index: str | None = None

    def __init__(
        self, places: Mapping[NormalizedName, str], told_by_build: ToldByBuild | None = None
    ) -> None:
        self._places = places
        self._told_by_build = told_by_build

    def names(self) -> Sequence[str]:
        """The libraries that come from here."""
        return sorted(self._places)

    def _listed(
        self, name: NormalizedName, pyproject: str | None, locked: LockedCommit | LockedCheckout, shown: str
    ) -> Listing:
        """The one release, or why it can't be used."""
        metadata, wrong = None, ""
        try:
            metadata = metadata_of_tree(pyproject)
        except MetadataBroken as error:
            wrong = str(error)
            if self._told_by_build is not None and name_of_tree(pyproject) in (None, name):
                metadata = self._told_by_build(name, locked)
        told = metadata.name if metadata else name_of_tree(pyproject)
        if told not in (None, name):
            wrong = f"it says that it is {told}"
        if metadata is None or metadata.name != name:
            rejected = Rejected(version=shown, reason=wrong, unbuilt=True)
            return Listing(name=name, source=self.name, rejected=(rejected,))
        tree = SourceTree(name=name, version=metadata.version, metadata=metadata, locked=locked)
        return Listing(name=name, source=self.name, trees=(tree,))


class CheckoutSource(_TreeSource):
    """Checkouts in place of published releases; paths are relative to the project's folder."""

    name = "declared checkouts"

    def __init__(
        self,
        places: Mapping[NormalizedName, str],
        project: Path,
        told_by_build: ToldByBuild | None = None,
        *,
        editable: bool = True,
    ) -> None:
        super().__init__(places, told_by_build)
        self._project = project
        self._editable = editable

    def listing(self, name: NormalizedName) -> Listing | None:
        """The one checkout of a library. Raises `SourceFailed` when it is not there."""
        if name not in self._places:
            return None
        folder = path_named(self._places[name], self._project)
        if not folder.is_dir():
            raise SourceFailed(
                f"the checkout of {name} is not there",
                because=[f"{folder} is not a folder"],
                note="correct or remove it under [tool.rabbet.local] in pyproject.toml",
            )
        pyproject = folder / "pyproject.toml"
        try:
            content = read_regular(pyproject, most=MOST_BY_HAND) if pyproject.exists() else None
            text = None if content is None else content.decode("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise SourceFailed(f"the checkout of {name} can't be read", because=[str(error)]) from error
        path = Path(os.path.relpath(folder, self._project)).as_posix()
        return self._listed(name, text, LockedCheckout(path=path, editable=self._editable), path)


class Reference(NamedTuple):
    """A direct reference to a repository, such as `git+https://HOST/x.git@v1#subdirectory=lib`."""

    address: Address
    revision: str | None
    subdirectory: str | None


def reference_to(address: str) -> Reference:
    """The parts of a direct reference to a repository."""
    parts = parse_address(address.removeprefix("git+"))
    path, at, revision = parts.path.rpartition("@")
    return Reference(
        address=parts._replace(path=path if at else revision, fragment=""),
        revision=revision if at else None,
        subdirectory=parts.marks.get("subdirectory"),
    )


class RepositorySource(_TreeSource):
    """Commits of git repositories.

    `kept` are the commits of an earlier lock: a branch or tag that was locked stays at its commit.
    `open_repository` gives access to an address; `offline` forbids to fetch.
    """

    name = "declared repositories"

    def __init__(
        self,
        places: Mapping[NormalizedName, str],
        kept: Mapping[NormalizedName, LockedCommit],
        open_repository: Callable[[Address], RemoteRepository],
        *,
        offline: bool,
        told_by_build: ToldByBuild | None = None,
    ) -> None:
        super().__init__(places, told_by_build)
        self._kept = kept
        self._open = open_repository
        self._offline = offline

    def listing(self, name: NormalizedName) -> Listing | None:
        """The commit that a library's reference names. Raises `SourceFailed`."""
        if name not in self._places:
            return None
        reference = reference_to(self._places[name])
        repository = self._open(reference.address)
        locked = self._locked(name, reference, repository)
        folder = f"{reference.subdirectory}/" if reference.subdirectory else ""
        pyproject = repository.file(locked.commit, f"{folder}pyproject.toml")
        return self._listed(name, pyproject, locked, locked.commit[:12])

    def _locked(
        self, name: NormalizedName, reference: Reference, repository: RemoteRepository
    ) -> LockedCommit:
        kept = self._kept.get(name)
        url = reference.address.text
        asked = (url, reference.revision, reference.subdirectory)
        if kept is not None and (kept.url, kept.requested, kept.subdirectory) == asked:
            if repository.has(kept.commit):
                return kept
            wanted = kept.commit
        else:
            wanted = reference.revision or "HEAD"
        if self._offline:
            raise SourceFailed(
                "something that is needed is not in the store",
                because=[f"offline: {url} may not be asked for {wanted}"],
                note="run it once without --offline and without RABBET_OFFLINE",
            )
        return LockedCommit(
            url=url,
            commit=repository.commit_of(wanted),
            requested=reference.revision,
            subdirectory=reference.subdirectory,
        )
