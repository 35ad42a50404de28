"""Files of earlier revisions, read through the `git` program."""

import subprocess
from pathlib import Path

from rabbet.errors import SourceFailed

__all__ = ["file_at"]

_TIMEOUT = 30  # seconds


def file_at(folder: Path, revision: str, name: str) -> str | None:
    """A file of this folder at a revision; `None` where that revision has no such file.

    Raises `SourceFailed` when git can't be asked, the folder is in no repository, or nothing has that name.
    """
    _git(
        folder, "rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}", of=revision
    )
    listed = _git(folder, "ls-tree", "--name-only", revision, "--", name, of=revision)
    return _git(folder, "show", f"{revision}:./{name}", of=revision) if listed.strip() else None


def _git(folder: Path, *arguments: str, of: str) -> str:
    try:
        done = subprocess.run(
            ["git", *arguments], cwd=folder, capture_output=True, timeout=_TIMEOUT, check=False
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise SourceFailed("git can't be asked", because=[str(error)]) from error
    if done.returncode != 0:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise SourceFailed(
            f"'{of}' is neither a lock file nor a revision in git",
            because=said[:1] or [f"git knows no commit of that name in {folder}"],
            remedy="rabbet compare HEAD, or: rabbet compare path/to/pylock.toml",
        )
    return done.stdout.decode("utf-8", errors="replace")
