"""The `git` program: files of earlier revisions, and commits of far repositories."""

import hashlib
import subprocess
from collections.abc import Mapping
from pathlib import Path

from rabbet.errors import CannotWrite, SourceFailed

__all__ = ["FarRepository", "file_at"]

_TIMEOUT = 30  # seconds
_FETCH_TIMEOUT = 600  # seconds
_ID_LENGTHS = (40, 64)  # of full commit ids (SHA-1, SHA-256)


def file_at(folder: Path, revision: str, name: str) -> str | None:
    """A file of this folder at a revision; `None` where that revision has no such file.

    Raises `SourceFailed` when git can't be asked, the folder is in no repository, or nothing has that name.
    """
    failed = SourceFailed(
        f"'{revision}' is neither a lock file nor a revision in git",
        because=[f"git knows no commit of that name in {folder}"],
        remedy="rabbet compare HEAD, or: rabbet compare path/to/pylock.toml",
    )
    named = _git(
        "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}", folder=folder
    )
    if named is None:
        raise failed
    listed = _git("ls-tree", "--name-only", revision, "--", name, folder=folder)
    if listed is None:
        raise failed
    return _git("show", f"{revision}:./{name}", folder=folder) if listed.strip() else None


class FarRepository:
    """A repository somewhere else; what was fetched of it stays in a bare one in `folder`.

    `environ` are the variables that git gets; it never asks anybody for a password.
    """

    def __init__(self, url: str, folder: Path, environ: Mapping[str, str]) -> None:
        self._url = url
        self._folder = folder / hashlib.sha256(url.encode()).hexdigest()
        self._environ = {**environ, "GIT_TERMINAL_PROMPT": "0"}

    def commit_of(self, revision: str, shown: str) -> str:
        """The full id of the commit that a branch, tag or id names now; the commit is fetched.

        `shown` is the address as it may be printed. Raises `SourceFailed`.
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
        said = done.stderr.decode(errors="replace").replace(self._url, shown).strip().splitlines()
        raise SourceFailed(
            f"git can't fetch '{revision}' from a repository",
            because=[shown, *said[:2]],
            remedy="check the address, the revision and your rights there: git ls-remote " + shown,
        )

    def has(self, commit: str) -> bool:
        """Whether a commit was fetched before."""
        return self._folder.is_dir() and self._run("cat-file", "-e", f"{commit}^{{commit}}").returncode == 0

    def file(self, commit: str, path: str) -> str | None:
        """A file at a commit that was fetched; `None` where that has none of this name."""
        done = self._run("show", f"{commit}:{path}")
        return done.stdout.decode("utf-8", errors="replace") if done.returncode == 0 else None

    def _prepare(self) -> None:
        """Make the bare repository, or mend one that a killed run left."""
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise CannotWrite(f"{self._folder} can't be written", because=[str(error.strerror)]) from error
        self._run("init", "--quiet", "--bare")

    def _run(self, *arguments: str) -> "subprocess.CompletedProcess[bytes]":
        given = [f"--git-dir={self._folder}", "-c", "protocol.ext.allow=never", *arguments]
        return _run(given, self._folder, self._environ)


def _git(*arguments: str, folder: Path) -> str | None:
    """What git prints; `None` when it fails."""
    done = _run(arguments, folder)
    return done.stdout.decode("utf-8", errors="replace") if done.returncode == 0 else None


def _run(
    arguments: "list[str] | tuple[str, ...]", folder: Path, environ: Mapping[str, str] | None = None
) -> "subprocess.CompletedProcess[bytes]":
    """Run git to its end. Raises `SourceFailed` when it can't be run or takes too long."""
    try:
        return subprocess.run(
            ["git", *arguments],
            cwd=folder,
            env=environ,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            timeout=_TIMEOUT if environ is None else _FETCH_TIMEOUT,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise SourceFailed("git can't be asked", because=[type(error).__name__]) from error
