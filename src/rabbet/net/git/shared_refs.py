"""Small files that a team shares through a repository's remote, under refs that no branch list shows.

    refs/rabbet/machines/GROUP/LABEL     a commit without parents; its tree holds what one machine has sent
    refs/rabbet/notes/GROUP              another one; its tree holds texts on the whole group, by their names

The files in a tree are numbered in the order in which they arrived, and renumbered with each: no sender's
clock counts. Each sender has a ref of its own, which it replaces only while the remote still has what it
built upon: two senders of one label take turns, and nothing is lost. What is sent and collected is kept in a
repository of our own: neither hooks nor the configuration of the project's repository take part.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Literal, NamedTuple, TypeAlias

from rabbet.errors import SourceFailed
from rabbet.net.git.objects import entries_of, read_objects
from rabbet.net.git.own_repository import OwnRepository, Remote

__all__ = [
    "Renamed",
    "SharedFile",
    "SharedRefs",
    "collected_files",
    "collected_labels",
    "collected_state",
    "contents_of",
]

_REFS = "refs/rabbet/machines"
_NOTES = "refs/rabbet/notes"
_NOTE_NAME = re.compile(r"[a-z]{1,20}\Z")  # others may have put anything there
_OVERTAKEN = (b"stale info", b"fetch first", b"cannot lock")  # somebody else was faster
_TRIES = 10  # of replacing a ref that others of the same label replace meanwhile
_MOST_LABELS = 20_000  # that are looked at
_LARGEST_TREE = 1_000_000  # bytes; one with 50 files has 5 kB
_LARGEST = 20_000_000  # bytes of a file
_NOBODY = {  # of a commit: no name, host or time zone of the sender's travels along
    **{f"GIT_{role}_NAME": "rabbet" for role in ("AUTHOR", "COMMITTER")},
    **{f"GIT_{role}_EMAIL": "rabbet@localhost" for role in ("AUTHOR", "COMMITTER")},
    **{f"GIT_{role}_DATE": "@0 +0000" for role in ("AUTHOR", "COMMITTER")},
}


Renamed: TypeAlias = Literal["done", "absent", "taken"]
"""What became of a new label: there may be no such machine, or another one that has the new label."""


class SharedFile(NamedTuple):
    """A file by whose it is, its name, and its content's id; in this order they sort as they arrived."""

    label: str
    name: str
    blob: str


class _Moved(Exception):
    """A ref that a remote had just listed could not be fetched: it was replaced, or git said why not."""

    def __init__(self, said: bytes) -> None:
        super().__init__()
        self.said = said


class SharedRefs:
    """The refs of a group in one remote, called `name` in messages; what was collected is in `own`."""

    def __init__(self, own: OwnRepository, remote: Remote, name: str, group: str) -> None:
        self._own = own
        self._remote = remote
        self._name = name
        self._refs = f"{_REFS}/{group}"
        self._group = group

    def send(self, label: str, content: bytes, keep: int) -> None:
        """Add a file to those of a label, of which the last `keep` stay. Raises `SourceFailed`.

        One that was sent before, and is still the last, is not added again.
        """
        ref = f"{self._refs}/{label}"
        self._own.make()
        blob = self._asked("hash-object", "-w", "--stdin", given=content).strip()
        for number in range(_TRIES):
            try:
                known = self._known_there(ref)
            except _Moved as moved:
                if number == _TRIES - 1:
                    raise self._failed("fetch", moved.said) from moved
                continue
            tree = self._asked("rev-parse", f"{known}^{{tree}}").strip() if known else ""
            kept = [file.blob for file in _files(self._own, [(label, tree)])]
            kept = [*kept, *([blob] if kept[-1:] != [blob] else [])][-keep:]
            listed = "".join(
                f"100644 blob {object_name}\t{place:06d}.json\n" for place, object_name in enumerate(kept)
            )
            new = self._asked("mktree", given=listed.encode()).strip()
            done = self._own.ask(["commit-tree", new, "-m", "inventories"], variables=_NOBODY)
            if done.code != 0:
                raise self._failed("commit-tree", done.err)
            commit = done.text.strip()
            pushed = self._own.push(self._remote, [f"{commit}:{ref}"], f"--force-with-lease={ref}:{known}")
            if pushed.code == 0:
                self._asked("update-ref", ref, commit)
                return
            if not any(reason in pushed.err for reason in _OVERTAKEN):
                break
        raise self._failed("push", pushed.err)

    def _known_there(self, ref: str) -> str:
        """The commit that a ref of the remote names, which is fetched; empty where it has no such ref.

        Raises `_Moved` where what was listed could not be fetched, and `SourceFailed`.
        """
        listed = self._own.refs_of(self._remote, ref)
        if listed.code != 0:
            raise self._failed("ls-remote", listed.err)
        rows = (line.partition("\t") for line in listed.text.splitlines())
        known = next(
            (commit for commit, _, name in rows if name == ref), ""
        )  # a branch may be called so, too
        if known:
            done = self._own.fetch(self._remote, [f"+{ref}:{ref}"])
            if done.code != 0:
                raise _Moved(done.err)
        return known

    def collect(self) -> list[SharedFile]:
        """Fetch what all have sent, and list it; what is gone from the remote goes here too.

        Raises `SourceFailed`.
        """
        self._own.make()
        done = self._own.fetch(self._remote, [f"+{self._refs}/*:{self._refs}/*"], "--prune")
        if done.code != 0:
            raise self._failed("fetch", done.err)
        return collected_files(self._own, self._group)

    def notes(self, name: str, *, fetching: bool = True) -> str:
        """The text of a note on the whole group, as the remote has it; empty where it has none.

        Without `fetching` it is what was fetched before. Raises `SourceFailed`.
        """
        self._own.make()
        ref = f"{_NOTES}/{self._group}"
        here = self._own.ask(["rev-parse", "--verify", "--quiet", ref]).text.strip()
        return self._noted(self._fetched_notes() if fetching else here).get(name, "")

    def note(self, name: str, change: Callable[[str], str]) -> None:
        """Change a note on the group: its text becomes what `change` makes of it. Raises `SourceFailed`.

        That is done again for another text where somebody else changes the note meanwhile.
        """
        self._own.make()
        ref = f"{_NOTES}/{self._group}"
        for _ in range(_TRIES):
            known = self._fetched_notes()
            texts = self._noted(known)
            changed = {**texts, name: change(texts.get(name, ""))}
            if changed == texts:
                return
            blobs = {
                title: self._asked("hash-object", "-w", "--stdin", given=text.encode()).strip()
                for title, text in changed.items()
            }
            listed = "".join(f"100644 blob {blob}\t{title}\n" for title, blob in sorted(blobs.items()))
            tree = self._asked("mktree", given=listed.encode()).strip()
            done = self._own.ask(["commit-tree", tree, "-m", "notes"], variables=_NOBODY)
            if done.code != 0:
                raise self._failed("commit-tree", done.err)
            commit = done.text.strip()
            pushed = self._own.push(self._remote, [f"{commit}:{ref}"], f"--force-with-lease={ref}:{known}")
            if pushed.code == 0:
                return
            if not any(reason in pushed.err for reason in _OVERTAKEN):
                break
        raise self._failed("push", pushed.err)

    def _fetched_notes(self) -> str:
        """The commit with the notes, fetched; empty where there is none."""
        for _ in range(_TRIES):
            try:
                return self._known_there(f"{_NOTES}/{self._group}")
            except _Moved as moved:
                said = moved.said
        raise self._failed("fetch", said)

    def _noted(self, commit: str) -> dict[str, str]:
        """The notes of a commit, by their names."""
        if not commit:
            return {}
        tree = self._asked("rev-parse", f"{commit}^{{tree}}").strip()
        found = dict(read_objects(self._own.ask, [tree], "tree", _LARGEST_TREE))
        entries = {
            entry.id: entry.name
            for entry in entries_of(found.get(tree, b""), len(tree))
            if entry.is_file and _NOTE_NAME.match(entry.name)
        }
        contents = read_objects(self._own.ask, entries, "blob", _LARGEST)
        return {entries[blob]: content.decode("utf-8", "replace") for blob, content in contents}

    def forget(self, label: str) -> bool:
        """Remove all that a label has sent, here and there; whether there was anything.

        Raises `SourceFailed`.
        """
        return self._move(label, None) == "done"

    def rename(self, label: str, new: str) -> Renamed:
        """Give what a label has sent to another one, which has sent nothing. Raises `SourceFailed`."""
        return self._move(label, new)

    def _move(self, label: str, new: str | None) -> Renamed:
        """Push a label's ref under another name, or under none, in one step."""
        self._own.make()
        ref, to = f"{self._refs}/{label}", f"{self._refs}/{new}"
        for number in range(_TRIES):
            try:
                known = self._known_there(ref)
                if new is not None and self._known_there(to):
                    return "taken"
            except _Moved as moved:
                if number == _TRIES - 1:
                    raise self._failed("fetch", moved.said) from moved
                continue
            if not known:
                return "absent"
            leases = [f"--force-with-lease={ref}:{known}"]
            refspecs = [f":{ref}"]
            if new is not None:
                leases.append(f"--force-with-lease={to}:")
                refspecs.append(f"{known}:{to}")
            pushed = self._own.push(self._remote, refspecs, "--atomic", *leases)
            if pushed.code == 0:
                self._own.ask(["update-ref", "-d", ref])
                if new is not None:
                    self._asked("update-ref", to, known)
                return "done"
            if b"stale info" not in pushed.err:
                break
        raise self._failed("push", pushed.err)

    def _asked(self, *arguments: str, given: bytes = b"") -> str:
        done = self._own.ask(arguments, given)
        if done.code != 0:
            raise self._failed(arguments[0], done.err)
        return done.text

    def _failed(self, what: str, said: bytes) -> SourceFailed:
        lines = [line for line in said.decode(errors="replace").strip().splitlines() if line][:3]
        return SourceFailed(
            f"inventories can't be shared through the remote '{self._name}'",
            because=[f"git {what}: {lines[0]}" if lines else f"git {what} failed", *lines[1:]],
            note="--remote names another one",
            remedy="git remote --verbose",
        )


def collected_labels(own: OwnRepository, group: str) -> list[str]:
    """The labels of all machines of a group that something was collected of. Raises `SourceFailed`."""
    return [label for label, _ in _trees(own, group)]


def collected_files(own: OwnRepository, group: str) -> list[SharedFile]:
    """The collected records of a group, by label and in order of arrival. Raises `SourceFailed`."""
    return _files(own, _trees(own, group))


def collected_state(own: OwnRepository, group: str) -> str:
    """A text that differs where other records of a group were collected. Raises `SourceFailed`."""
    return " ".join(f"{label} {tree}" for label, tree in _trees(own, group))


def contents_of(own: OwnRepository, files: Iterable[SharedFile]) -> Iterator[tuple[SharedFile, bytes | None]]:
    """The contents of files; `None` for one that can't be read, or is too large. Raises `SourceFailed`."""
    by_blob: dict[str, list[SharedFile]] = {}
    for file in files:
        by_blob.setdefault(file.blob, []).append(file)
    for blob, content in read_objects(own.ask, list(by_blob), "blob", _LARGEST):
        yield from ((file, content) for file in by_blob.pop(blob, ()))
    yield from ((file, None) for left in by_blob.values() for file in left)


def _trees(own: OwnRepository, group: str) -> list[tuple[str, str]]:
    """Each label of a group with the id of its tree."""
    if not own.exists():
        return []
    refs = f"{_REFS}/{group}/"
    asked = ["for-each-ref", f"--count={_MOST_LABELS}", "--format=%(refname) %(tree)", refs]
    rows = (line.rpartition(" ") for line in own.ask(asked).text.splitlines())
    return [(ref.removeprefix(refs), tree) for ref, _, tree in rows]


def _files(own: OwnRepository, trees: Iterable[tuple[str, str]]) -> list[SharedFile]:
    """The files in the trees of labels, as they arrived."""
    by_label = list(trees)
    found = dict(read_objects(own.ask, (tree for _, tree in by_label), "tree", _LARGEST_TREE))
    return sorted(
        SharedFile(label, entry.name, entry.id)
        for label, tree in by_label
        if tree in found
        for entry in entries_of(found[tree], len(tree))
        if entry.is_file
    )
