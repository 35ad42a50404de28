"""Commits of repositories elsewhere, fetched once."""

import hashlib
from collections.abc import Mapping
from pathlib import Path

from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.shell import quoted
from rabbet.errors import SourceFailed
from rabbet.net.git.objects import read_objects
from rabbet.net.git.own_repository import OwnRepository, Remote

__all__ = ["RemoteRepository"]

_ID_LENGTHS = (40, 64)  # of full commit ids (SHA-1, SHA-256)


class RemoteRepository:
    """A repository somewhere else; what was fetched of it stays in one of our own below `folder`.

    `environ` are git's variables.
    """

    def __init__(self, url: str, folder: Path, environ: Mapping[str, str], *, credentials: str = "") -> None:
        self._remote = Remote(url, credentials)
        self._own = OwnRepository(folder / hashlib.sha256(url.encode()).hexdigest(), environ)

    def commit_of(self, revision: str) -> str:
        """The full id of the commit that a branch, tag or id names now; the commit is fetched.

        Raises `SourceFailed`.
        """
        kept = f"refs/rabbet/{hashlib.sha256(revision.encode()).hexdigest()}"
        if len(revision) in _ID_LENGTHS and self.has(revision):
            return revision
        self._own.make()
        for what, depth in ((revision, ["--depth=1"]), ("refs/*", [])):
            into = kept if what == revision else "refs/rabbet-all/*"
            done = self._own.fetch(self._remote, [f"+{what}:{into}"], *depth)
            if done.code == 0:
                name = f"{kept if what == revision else revision}^{{commit}}"
                found = self._own.ask(["rev-parse", "--verify", "--quiet", "--end-of-options", name])
                if found.code == 0:
                    return found.text.strip()
        said = done.err.decode(errors="replace").strip().splitlines()
        raise SourceFailed(
            f"git can't fetch '{revision}' from a repository",
            because=[self._remote.url, *said[:2], "check the address, the revision and your rights there"],
            remedy=f"git ls-remote {quoted(self._remote.url)}",
        )

    def has(self, commit: str) -> bool:
        """Whether a commit was fetched before."""
        return self._own.exists() and self._own.ask(["cat-file", "-e", f"{commit}^{{commit}}"]).code == 0

    def file(self, commit: str, path: str) -> str | None:
        """A file at a commit that was fetched; `None` where that has none of this name and usual size."""
        name = self._own.ask(["rev-parse", "--verify", "--quiet", "--end-of-options", f"{commit}:{path}"])
        found = dict(read_objects(self._own.ask, [name.text.strip()], "blob", MOST_BY_HAND))
        return next((content.decode("utf-8", "replace") for content in found.values()), None)

    def export(self, commit: str, archive: Path) -> None:
        """Write the tree of a commit, fetched if need be, as a zip archive. Raises `SourceFailed`."""
        whole = self.commit_of(commit)
        done = self._own.ask(["archive", "--format=zip", f"--output={archive}", whole])
        if done.code != 0:
            said = done.err.decode(errors="replace").strip().splitlines()
            raise SourceFailed(f"git can't export {commit}", because=[self._remote.url, *said[:2]])
