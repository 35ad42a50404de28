"""A file as it was at earlier revisions of the project."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.errors import SourceFailed
from rabbet.net.git.objects import read_objects
from rabbet.net.git.program import ask_git
from rabbet.work.ask import ProgramAnswer

__all__ = ["Blob", "contents", "file_at", "history"]

_MOST_DIGITS = 15  # of a time


class Blob(NamedTuple):
    """A file's content in a commit, by their ids; its author, and `when` (seconds) it was committed."""

    commit: str
    author: str
    when: int
    blob: str


def history(folder: Path, name: str, environ: Mapping[str, str], most: int) -> list[Blob]:
    """The revisions of a file of this folder, also under earlier names, newest first and at `most` so many.

    Empty where git can't tell, or the folder is in no repository.
    """
    arguments = ["log", f"--max-count={most}", "--follow", "--raw", "--no-abbrev", "--no-ext-diff"]
    arguments += ["--no-textconv", "--format=%H %ct %an", "--", name]
    try:
        told = ask_git(folder, arguments, environ).text
    except SourceFailed:
        return []
    found: list[Blob] = []
    commit, author, when = "", "", 0
    for line in told.splitlines():
        if line.startswith(":"):
            parts = line.split()
            if len(parts) > 4 and set(parts[3]) != {"0"}:  # else it was deleted there
                found.append(Blob(commit, author, when, parts[3]))
        elif line:
            commit, _, rest = line.partition(" ")
            moment, _, author = rest.partition(" ")
            when = int(moment) if moment.isdecimal() and len(moment) < _MOST_DIGITS else 0
    return found


def contents(folder: Path, blobs: Iterable[str], environ: Mapping[str, str]) -> Iterator[tuple[str, bytes]]:
    """The contents of blobs by their ids, each once; those that can't be read are left out."""

    def ask(arguments: Sequence[str], given: bytes) -> ProgramAnswer:
        return ask_git(folder, arguments, environ, given=given)

    try:
        yield from read_objects(ask, blobs, "blob", MOST_TEXT_FILE)
    except SourceFailed:
        return


def file_at(folder: Path, revision: str, name: str, environ: Mapping[str, str]) -> str | None:
    """A file of this folder at a revision; `None` where that revision has no such file.

    `environ` are the variables that git gets; its `PATH` is where git itself is looked for.
    Raises `SourceFailed` when git can't be asked, the folder is in no repository, nothing has that name, or
    the file is larger than any of its kind.
    """

    def git(*arguments: str) -> str | None:
        """Git's output; `None` when it fails."""
        done = ask_git(folder, arguments, environ)
        return done.text if done.code == 0 else None

    commit = git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    listed = git("ls-tree", commit.strip(), "--", name) if commit is not None else None
    if commit is None or listed is None:
        any_commit = git("rev-parse", "--verify", "--quiet", "HEAD") is not None
        raise SourceFailed(
            f"'{revision}' is neither a lock file nor a revision in git",
            because=[f"git knows no commit of that name in {folder}"],
            remedy="git log --oneline" if any_commit else "",
        )
    if not listed.strip():
        return None
    blob = listed.split()[2]
    found = dict(contents(folder, [blob], environ))
    if blob not in found:
        raise SourceFailed(
            f"{name} at '{revision}' can't be read", because=["git has no such file of a reasonable size"]
        )
    return found[blob].decode("utf-8", "replace")
