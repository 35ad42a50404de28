"""Small files that a team shares through a repository's remote, under refs that no branch list shows.

    refs/rabbet/census/LABEL     a commit without parents; its tree holds the files that one machine has sent

Each sender has a ref of its own, which it replaces only while the remote still has what it built upon: two
senders of one label take turns, and nothing is lost. Hooks of the repository are not run.
"""

from collections.abc import Iterator, Mapping
from pathlib import Path
from subprocess import CompletedProcess
from typing import NamedTuple

from rabbet.errors import SourceFailed
from rabbet.git.program import run_git
from rabbet.git.revisions import contents

__all__ = ["SharedFile", "SharedRefs"]

_REFS = "refs/rabbet/census"
_TIMEOUT = 300  # seconds
_TRIES = 10  # of replacing a ref that others of the same label replace meanwhile
_OPTIONS = (
    *("-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "protocol.ext.allow=never"),
    *("-c", "gc.auto=0", "-c", "user.name=rabbet", "-c", "user.email=rabbet@localhost"),
)


class SharedFile(NamedTuple):
    """A file by whose it is, its name, and its content's id."""

    label: str
    name: str
    blob: str


class SharedRefs:
    """The refs of one remote. `environ` are git's variables; it never asks anybody for a password."""

    def __init__(self, folder: Path, remote: str, environ: Mapping[str, str]) -> None:
        self._folder = folder
        self._remote = remote
        self._environ = {**environ, "GIT_TERMINAL_PROMPT": "0"}

    def send(self, label: str, name: str, content: bytes, keep: int) -> None:
        """Add a file to those of a label, of which the last `keep` by name stay. Raises `SourceFailed`."""
        ref = f"{_REFS}/{label}"
        blob = self._git("hash-object", "-w", "--stdin", given=content).strip()
        for _ in range(_TRIES):
            known = self._git("ls-remote", "--quiet", "--", self._remote, ref).partition("\t")[0].strip()
            if known:
                self._git("fetch", "--quiet", "--no-tags", "--", self._remote, f"+{ref}:{ref}")
            files = {file.name: file.blob for file in self._files(known)} if known else {}
            files[name] = blob
            newest = sorted(files)[-keep:]
            listed = "".join(f"100644 blob {files[one]}\t{one}\n" for one in newest)
            tree = self._git("mktree", given=listed.encode()).strip()
            commit = self._git("commit-tree", tree, "-m", "inventories").strip()
            lease = f"--force-with-lease={ref}:{known}"
            done = self._run("push", "--quiet", "--no-verify", lease, "--", self._remote, f"{commit}:{ref}")
            if done.returncode == 0:
                self._git("update-ref", ref, commit)
                return
            said = done.stderr.decode(errors="replace")
            if "stale info" not in said and "fetch first" not in said and "cannot lock" not in said:
                break
        raise self._failed("send", said)

    def collect(self) -> list[SharedFile]:
        """Fetch what all have sent, and list it; what is gone from the remote goes here too.

        Raises `SourceFailed`.
        """
        self._git("fetch", "--quiet", "--no-tags", "--prune", "--", self._remote, f"+{_REFS}/*:{_REFS}/*")
        return self.known()

    def known(self) -> list[SharedFile]:
        """What was collected, by label and name."""
        listed = self._git("for-each-ref", "--format=%(refname) %(tree)", _REFS)
        rows = [line.rpartition(" ") for line in listed.splitlines()]
        return [
            SharedFile(ref.removeprefix(f"{_REFS}/"), file.name, file.blob)
            for ref, _, tree in rows
            for file in self._files(tree)
        ]

    def contents(self, files: list[SharedFile]) -> Iterator[tuple[SharedFile, bytes]]:
        """The contents of files; those that can't be read are left out."""
        by_blob = {file.blob: file for file in files}
        found = contents(self._folder, by_blob, self._environ)
        known = dict(found)
        yield from ((file, known[file.blob]) for file in files if file.blob in known)

    def _files(self, tree: str) -> Iterator[SharedFile]:
        for line in self._git("ls-tree", tree).splitlines():
            head, _, name = line.partition("\t")
            _, kind, blob = head.split()
            if kind == "blob":
                yield SharedFile("", name, blob)

    def _git(self, *arguments: str, given: bytes = b"") -> str:
        done = self._run(*arguments, given=given)
        if done.returncode != 0:
            raise self._failed(arguments[0], done.stderr.decode(errors="replace"))
        return done.stdout.decode("utf-8", errors="replace")

    def _run(self, *arguments: str, given: bytes = b"") -> "CompletedProcess[bytes]":
        return run_git([*_OPTIONS, *arguments], self._folder, self._environ, _TIMEOUT, given=given)

    def _failed(self, what: str, said: str) -> SourceFailed:
        lines = [line for line in said.strip().splitlines() if line][:3]
        return SourceFailed(
            f"inventories can't be shared through the remote '{self._remote}'",
            because=[f"git {what}: {lines[0]}" if lines else f"git {what} failed", *lines[1:]],
            note="--remote names another one",
            remedy="git remote --verbose",
        )
