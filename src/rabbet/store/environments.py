"""Which environments were made from this store: a note for each, so that they can be listed and spared."""

import hashlib
from contextlib import suppress
from pathlib import Path

from rabbet.store.memory import Memory

__all__ = ["Environments"]


class Environments:
    """The folders of environments. One that is gone is forgotten when the list is read."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._notes = Memory(folder)

    def note(self, root: Path) -> None:
        """Remember an environment."""
        self._notes.remember(self._key(root), str(root).encode(errors="surrogateescape"))

    def forget(self, root: Path) -> None:
        """Take an environment off the list."""
        with suppress(OSError):
            (self._folder / self._key(root)).unlink()

    def known(self) -> list[Path]:
        """All environments that are still there, sorted."""
        try:
            notes = [note.read_bytes() for note in self._folder.iterdir() if len(note.name) == 64]
        except OSError:
            return []
        roots = sorted(Path(note.decode(errors="surrogateescape")) for note in notes)
        return [root for root in roots if root.is_dir()]

    @staticmethod
    def _key(root: Path) -> str:
        return hashlib.sha256(str(root).encode(errors="surrogateescape")).hexdigest()
