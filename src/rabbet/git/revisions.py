"""A file as it was at an earlier revision of the project."""

from collections.abc import Mapping
from pathlib import Path

from rabbet.errors import SourceFailed
from rabbet.git.program import run_git

__all__ = ["file_at"]

_TIMEOUT = 30  # seconds
# A clone's own configuration may name programs; none of what git does to look something up here needs one.
_INERT = ("-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "protocol.allow=never")


def file_at(folder: Path, revision: str, name: str, environ: Mapping[str, str]) -> str | None:
    """A file of this folder at a revision; `None` where that revision has no such file.

    `environ` are the variables that git gets; its `PATH` is where git itself is looked for.
    Raises `SourceFailed` when git can't be asked, the folder is in no repository, or nothing has that name.
    """
    failed = SourceFailed(
        f"'{revision}' is neither a lock file nor a revision in git",
        because=[f"git knows no commit of that name in {folder}"],
        remedy="rabbet compare HEAD",
    )

    def git(*arguments: str) -> str | None:
        """What git prints; `None` when it fails."""
        done = run_git([*_INERT, *arguments], folder, environ, _TIMEOUT)
        return done.stdout.decode("utf-8", errors="replace") if done.returncode == 0 else None

    commit = git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    listed = git("ls-tree", "--name-only", commit.strip(), "--", name) if commit is not None else None
    if commit is None or listed is None:
        raise failed
    return git("cat-file", "blob", f"{commit.strip()}:./{name}") if listed.strip() else None
