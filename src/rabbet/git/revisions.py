"""A file as it was at an earlier revision of the project."""

from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

from rabbet.errors import SourceFailed
from rabbet.git.program import run_git

__all__ = ["Blob", "contents", "file_at", "history"]

_TIMEOUT = 30  # seconds
_MOST_DIGITS = 15  # of a time
# A clone's own configuration may name programs; none of what git does to look something up here needs one.
_INERT = (
    "-c",
    "core.fsmonitor=false",
    "-c",
    "core.hooksPath=/dev/null",
    "-c",
    "protocol.allow=never",
    "-c",
    "log.showSignature=false",
)


class Blob(NamedTuple):
    """A file's content in a commit, by their ids; `when` it was committed, in seconds since the epoch."""

    commit: str
    when: int
    blob: str


def history(folder: Path, name: str, environ: Mapping[str, str], most: int) -> list[Blob]:
    """The revisions of a file of this folder, also under earlier names, newest first and at `most` so many.

    Empty where git can't tell, or the folder is in no repository.
    """
    arguments = [
        "log",
        f"--max-count={most}",
        "--follow",
        "--raw",
        "--no-abbrev",
        "--format=%H %ct",
        "--",
        name,
    ]
    try:
        done = run_git([*_INERT, *arguments], folder, environ, _TIMEOUT)
    except SourceFailed:
        return []
    found: list[Blob] = []
    commit, when = "", 0
    for line in done.stdout.decode("utf-8", "replace").splitlines():
        if line.startswith(":"):
            blob = line.split()[3]
            if set(blob) != {"0"}:  # else it was deleted there
                found.append(Blob(commit, when, blob))
        elif line:
            commit, _, told = line.partition(" ")
            when = int(told) if told.isdecimal() and len(told) < _MOST_DIGITS else 0
    return found


def contents(folder: Path, blobs: Iterable[str], environ: Mapping[str, str]) -> Iterator[tuple[str, bytes]]:
    """The contents of blobs by their ids, each once; those that can't be read are left out."""
    asked = "".join(f"{blob}\n" for blob in dict.fromkeys(blobs)).encode()
    try:
        done = run_git([*_INERT, "cat-file", "--batch"], folder, environ, _TIMEOUT, given=asked)
    except SourceFailed:
        return
    output, place = done.stdout, 0
    while place < len(output):
        end = output.find(b"\n", place)
        if end < 0:
            return
        head = output[place:end].split()
        place = end + 1
        if len(head) == 3 and head[2].isdigit():
            size = int(head[2])
            yield head[0].decode(), output[place : place + size]
            place += size + 1


def file_at(folder: Path, revision: str, name: str, environ: Mapping[str, str]) -> str | None:
    """A file of this folder at a revision; `None` where that revision has no such file.

    `environ` are the variables that git gets; its `PATH` is where git itself is looked for.
    Raises `SourceFailed` when git can't be asked, the folder is in no repository, or nothing has that name.
    """

    def git(*arguments: str) -> str | None:
        """What git prints; `None` when it fails."""
        done = run_git([*_INERT, *arguments], folder, environ, _TIMEOUT)
        return done.stdout.decode("utf-8", errors="replace") if done.returncode == 0 else None

    commit = git("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}")
    listed = git("ls-tree", "--name-only", commit.strip(), "--", name) if commit is not None else None
    if commit is None or listed is None:
        any_commit = git("rev-parse", "--verify", "--quiet", "HEAD") is not None
        raise SourceFailed(
            f"'{revision}' is neither a lock file nor a revision in git",
            because=[f"git knows no commit of that name in {folder}"],
            remedy="git log --oneline" if any_commit else "",
        )
    return git("cat-file", "blob", f"{commit.strip()}:./{name}") if listed.strip() else None
