"""Commits of repositories elsewhere, fetched once."""

import hashlib
from collections.abc import Mapping
from pathlib import Path
from subprocess import CompletedProcess

from rabbet.core.shell import quoted
from rabbet.errors import CannotWrite, SourceFailed
from rabbet.formats.address import parse_address
from rabbet.git.program import run_git

__all__ = ["RemoteRepository"]

_FETCH_TIMEOUT = 600  # seconds
_ID_LENGTHS = (40, 64)  # of full commit ids (SHA-1, SHA-256)


_USER, _PASSWORD = "RABBET_GIT_USERNAME", "RABBET_GIT_PASSWORD"
# Run by git's own shell; what it prints is how git takes credentials (gitcredentials(7)).
_ANSWER = f'printf "username=%s\\npassword=%s\\n" "${_USER}" "${_PASSWORD}"'
_HELPER = f'!answer() {{ test "$1" = get && {_ANSWER}; }}; answer'


class RemoteRepository:
    """A repository somewhere else; what was fetched of it stays in a bare one in `folder`.

    `url` holds no credentials: these are `user:password`, and git gets them through its environment, which
    other users of the machine can't see. `environ` are its variables; it never asks anybody for a password.
    """

    def __init__(self, url: str, folder: Path, environ: Mapping[str, str], *, credentials: str = "") -> None:
        user, _, password = credentials.partition(":")
        self._url = url
        self._folder = folder / hashlib.sha256(url.encode()).hexdigest()
        self._environ = {**environ, "GIT_TERMINAL_PROMPT": "0", _USER: user, _PASSWORD: password}
        self._options = ["-c", "protocol.ext.allow=never"]
        if credentials:
            self._options += ["-c", f"credential.{parse_address(url).origin}.helper={_HELPER}"]

    def commit_of(self, revision: str) -> str:
        """The full id of the commit that a branch, tag or id names now; the commit is fetched.

        Raises `SourceFailed`.
        """
        kept = f"refs/rabbet/{hashlib.sha256(revision.encode()).hexdigest()}"
        if len(revision) in _ID_LENGTHS and self.has(revision):
            return revision
        self._prepare()
        for what, depth in ((revision, ["--depth=1"]), ("refs/*", [])):
            into = kept if what == revision else "refs/rabbet-all/*"
            done = self._run("fetch", "--quiet", "--no-tags", *depth, "--", self._url, f"+{what}:{into}")
            if done.returncode == 0:
                name = f"{kept if what == revision else revision}^{{commit}}"
                found = self._run("rev-parse", "--verify", "--quiet", "--end-of-options", name)
                if found.returncode == 0:
                    return found.stdout.decode().strip()
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise SourceFailed(
            f"git can't fetch '{revision}' from a repository",
            because=[self._url, *said[:2], "check the address, the revision and your rights there"],
            remedy=f"git ls-remote {quoted(self._url)}",
        )

    def has(self, commit: str) -> bool:
        """Whether a commit was fetched before."""
        return self._folder.is_dir() and self._run("cat-file", "-e", f"{commit}^{{commit}}").returncode == 0

    def file(self, commit: str, path: str) -> str | None:
        """A file at a commit that was fetched; `None` where that has none of this name."""
        done = self._run("show", f"{commit}:{path}")
        return done.stdout.decode("utf-8", errors="replace") if done.returncode == 0 else None

    def export(self, commit: str, archive: Path) -> None:
        """Write the tree of a commit, fetched if need be, as a zip archive. Raises `SourceFailed`."""
        whole = self.commit_of(commit)
        done = self._run("archive", "--format=zip", f"--output={archive}", whole)
        if done.returncode != 0:
            said = done.stderr.decode(errors="replace").strip().splitlines()
            raise SourceFailed(f"git can't export {commit}", because=[self._url, *said[:2]])

    def _prepare(self) -> None:
        """Make the bare repository, or mend one that a killed run left."""
        try:
            self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        except OSError as error:
            raise CannotWrite(f"{self._folder} can't be written", because=[str(error.strerror)]) from error
        self._run("init", "--quiet", "--bare")

    def _run(self, *arguments: str) -> "CompletedProcess[bytes]":
        given = [f"--git-dir={self._folder}", *self._options, *arguments]
        return run_git(given, self._folder, self._environ, _FETCH_TIMEOUT)
