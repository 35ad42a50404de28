"""A registry of the environments that were created on this machine, and of where their runtimes lie.

An environment holds a random name of its own, which only this store knows beside it; the note of that name
tells which folder it is, by its inode and its place. A folder that came with a clone holds no name that is
known here; one that was moved is still known by its inode.
"""

import hashlib
import os
import time
from collections.abc import Iterable
from contextlib import suppress
from itertools import islice
from pathlib import Path

from rabbet.disk.folder import make_folder
from rabbet.disk.regular_file import read_regular
from rabbet.store.blob_cache import BlobCache

__all__ = ["NAME_FILE", "NOTES", "Environments", "new_name"]

NAME_FILE = "rabbet.id"  # inside an environment, its own random name
# The folder of the notes, in their present form. Their form is their own: if the store's layout changes, no
# environment becomes a stranger's. It has the name that the store's layout had when they were first kept.
NOTES = "layout-2"
_MOST_BESIDE = 1000  # folders that are looked into for a project that was renamed
_DAYS_UNTIL_GONE = 90  # after which one whose folder is not there is not expected to come back


def new_name() -> str:
    """A name that nobody can guess."""
    return os.urandom(16).hex()


class Environments:
    """The environments that were made from a store, or by a user; `folder` holds what is noted here."""

    def __init__(self, place: Path) -> None:
        self.folder = place / NOTES
        self._notes = BlobCache(self.folder / "environments")
        self.places = (
            self.folder / "places"
        )  # where each lies, in plain text: for shells that follow their user
        self._unfinished = BlobCache(self.folder / "unfinished")
        self._runtimes = BlobCache(self.folder / "runtimes")

    def note(self, root: Path, *, place: Path | None = None) -> None:
        """Remember an environment, which holds its name; `place` is where it will lie, if not there yet."""
        name = _name(root)
        if name is not None:
            note = f"{root.lstat().st_ino}\n{place or root}"
            self._notes.remember(name, note.encode(errors="surrogateescape"))
            self._note_place(name, str(place or root))

    def note_places(self) -> None:
        """Note in plain text where all environments lie."""
        for name, place in self._places():
            if self.owns(place):
                self._note_place(name, str(place))

    def note_use(self, root: Path) -> None:
        """Remember that an environment is being used now; a place that can't be written forgets it."""
        name = _name(root)
        if name is not None:
            with suppress(OSError):
                os.utime(self.places / name)

    def last_use(self, root: Path) -> float | None:
        """When an environment was last used or made, in seconds since the epoch; `None` if nobody knows."""
        name = _name(root)
        with suppress(OSError):
            return os.stat(self.places / name).st_mtime if name is not None else None  # noqa: PTH116 - as above
        return None

    def _note_place(self, name: str, place: str) -> None:
        """One that can't be written is not followed, which is no error; nor one that would part `PATH`."""
        if any(character in place for character in "\n\r:"):
            return
        with suppress(OSError):
            make_folder(self.places)
            path = self.places / name
            if not path.exists() or path.read_bytes() != f"{place}\n".encode(errors="surrogateescape"):
                path.write_bytes(f"{place}\n".encode(errors="surrogateescape"))

    def owns(self, root: Path) -> bool:
        """Whether an environment was made here: a folder, no link, that holds a name from this store.

        The note follows one that was moved.
        """
        name = _name(root)
        note = self._notes.recall(name) if name and not root.is_symlink() else None
        if note is None:
            return False
        inode, _, place = note.decode(errors="surrogateescape").partition("\n")
        with suppress(OSError):
            if inode != str(root.lstat().st_ino):
                return place == str(root)
            if os.path.basename(place) == root.name and not os.path.lexists(place):  # noqa: PTH119
                self.note(root)
            return True
        return False

    def forget(self, root: Path) -> None:
        """Take an environment off the list; it may be gone already."""
        for name, place in self._places():
            if place == root:
                self._notes.forget(name)
                with suppress(OSError):
                    (self.places / name).unlink(missing_ok=True)

    def sweep(self, older: int) -> None:
        """Take the environments off the list that are gone, and whose notes are older than so many days."""
        before = time.time() - max(_DAYS_UNTIL_GONE, older) * 86400
        for name, place in self._places():
            with suppress(OSError):
                if not os.path.lexists(place) and self._notes.changed(name) <= before:
                    self._notes.forget(name)
                    (self.places / name).unlink(missing_ok=True)

    def known(self) -> list[Path]:
        """All environments that are still there, sorted; of projects that were renamed, too."""
        found = set()
        for name, place in self._places():
            if not os.path.lexists(place):
                place = self._renamed(name, place)  # noqa: PLW2901 - it lies there now
            if self.owns(place):
                found.add(place)
        return sorted(found)

    def _renamed(self, name: str, place: Path) -> Path:
        """Where an environment lies whose project got another name in the same folder; else as noted."""
        with suppress(OSError), os.scandir(place.parent.parent) as entries:
            for entry in islice(entries, _MOST_BESIDE):
                beside = Path(entry.path) / place.name
                if _name(beside) == name:
                    return beside
        return place

    def _places(self) -> list[tuple[str, Path]]:
        notes = ((name, self._notes.recall(name)) for name in self._notes)
        return [
            (name, Path(note.decode(errors="surrogateescape").partition("\n")[2]))
            for name, note in notes
            if note is not None
        ]

    def note_runtimes(self, folders: Iterable[Path]) -> None:
        """Remember the folders of runtimes that an environment uses: they are found whatever `PATH` says."""
        for folder in folders:
            content = os.fsencode(folder)
            key = hashlib.sha256(content).hexdigest()[:32]
            if self._runtimes.recall(key) != content:
                self._runtimes.remember(key, content)

    def runtime_folders(self) -> list[str]:
        """The folders of all runtimes that environments have used, as far as they are still there."""
        folders = filter(None, map(self._runtimes.recall, self._runtimes))
        return sorted(os.fsdecode(folder) for folder in folders if os.path.isdir(folder))  # noqa: PTH112 - bytes

    def begin(self, folder: Path) -> None:
        """Register a staging folder: if this run is killed, it may be removed."""
        self._unfinished.remember(folder.name, os.fsencode(folder.name))

    def began(self, folder: Path) -> bool:
        """Whether a folder was registered as staging, and is no user's folder of a similar name."""
        known = folder.is_dir() and not folder.is_symlink()
        return known and self._unfinished.recall(folder.name) is not None

    def end(self, folder: Path) -> None:
        """Unregister a staging folder that is gone."""
        self._unfinished.forget(folder.name)


def _name(root: Path) -> str | None:
    """The name that a folder holds, if it can be one."""
    try:
        name = read_regular(root / NAME_FILE, most=64).decode("ascii").strip()
    except (OSError, UnicodeDecodeError):
        return None
    return name if len(name) == 32 and name.isalnum() else None
