"""Where the store keeps wheels and what is unpacked of them, and how an entry gets its name."""

import os
import tempfile
import threading
from pathlib import Path

from msgspec import Struct

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.model.lock import LockedFile
from rabbet.core.model.runtime import PythonRuntime
from rabbet.disk.folder import make_folder
from rabbet.disk.regular_file import read_regular
from rabbet.store.blob_cache import BlobCache
from rabbet.store.layout import UNPACKED
from rabbet.store.trees import StoredFile, is_sound, note_state, read_tree, sound_tree, write_tree

__all__ = ["Entries", "Unpacked"]


class Unpacked(Struct, frozen=True):
    """A wheel's files in the store: where they are, and what each was when it was unpacked."""

    tree: Path
    files: tuple[StoredFile, ...]

    def metadata(self) -> bytes:
        """The wheel's own core metadata; empty when it has none."""
        for file in self.files:
            if file.path.endswith(".dist-info/METADATA") and file.path.count("/") == 1:
                return read_regular(self.tree / file.path, most=MOST_TEXT_FILE)
        return b""


class Entries:
    """The entries of a store: fetched wheels, and trees that were unpacked or compiled of them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._states = BlobCache(folder / "states")
        self._unpacking = threading.BoundedSemaphore(os.cpu_count() or 1)  # more would hinder each other

    @property
    def one_a_core(self) -> threading.BoundedSemaphore:
        """Lock for reading or writing many files: concurrent users would slow each other down."""
        return self._unpacking

    def wheel(self, wheel: LockedFile) -> Path:
        """The place of a fetched wheel."""
        return self.folder / "wheels" / wheel.sha256 / wheel.filename

    def is_whole(self, wheel: LockedFile) -> bool:
        """Whether a wheel was fetched, and is on the disk what it was then."""
        return is_sound(self.wheel(wheel), wheel.sha256)

    def unpacked(self, wheel: LockedFile) -> Path:
        """The entry of what a wheel holds."""
        return self.folder / UNPACKED / wheel.sha256

    def compiled(self, wheel: LockedFile, runtime: PythonRuntime) -> Path:
        """The entry of its modules, as a runtime has compiled them: another one's may differ."""
        return self.unpacked(wheel) / f"{runtime.distributor}-{runtime.version}"

    def key(self, entry: Path) -> str:
        """The key of the state that a tree was last found right in."""
        return "-".join(entry.relative_to(self.folder / UNPACKED).parts)

    def intact(self, entry: Path) -> Unpacked | None:
        """The content of an entry whose files are unchanged; `None` when missing or damaged."""
        with self._unpacking:
            files = sound_tree(str(entry), self.key(entry), self._states)
        return None if files is None else Unpacked(entry / "tree", files)

    def listed(self, entry: Path) -> Unpacked | None:
        """The content of an entry by its list alone, for callers that verify the files elsewhere."""
        files = read_tree(str(entry), self.key(entry))
        return None if files is None else Unpacked(entry / "tree", files)

    def forget(self, entry: Path) -> None:
        """Forget that an entry was found right, so that all of it is read again."""
        self._states.forget(self.key(entry))

    def note_state(self, entry: Path) -> None:
        """Note that an entry is right as it is now. Raises `OSError`."""
        note_state(str(entry), self.key(entry), self._states)

    def partial(self) -> Path:
        """A new folder for what is being written; nothing in it is ever taken for whole. Raises `OSError`."""
        make_folder(self.folder / "partial")
        return Path(tempfile.mkdtemp(dir=self.folder / "partial"))

    def publish(self, made: Path, entry: Path, files: tuple[StoredFile, ...]) -> None:
        """Give an entry its name; where another process was faster, its copy serves. Raises `OSError`."""
        write_tree(str(made), self.key(entry), files)
        make_folder(entry.parent)
        try:
            made.rename(entry)
        except OSError:
            if read_tree(str(entry), self.key(entry)) is None:
                raise
        self.note_state(entry)
