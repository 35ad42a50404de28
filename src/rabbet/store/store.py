"""The store's layout on disk, and getting wheels into it.

    LAYOUT/wheels/<sha256>/<file name>      each fetched wheel, its hash verified before it gets this name
    LAYOUT/unpacked/<sha256>/tree/…         the files of that wheel
    LAYOUT/unpacked/<sha256>/files.json     what they were when they were unpacked
    LAYOUT/unpacked/<sha256>/RUNTIME/…      the same two for its modules, compiled by one runtime
    LAYOUT/metadata/<sha256>                the core metadata of wheels
    LAYOUT/listings/<digest>                the parsed listings of indexes, by their address
    LAYOUT/repositories/<digest>            what was fetched of git repositories, by their address
    LAYOUT/runtimes/<digest>                what interpreters told of themselves
    LAYOUT/unchanged/<digest>               which locks and environments were found up to date
    LAYOUT/environments/<digest>            which environments were made from here
    LAYOUT/patterns/<digest>                what an environment of certain inputs consists of
    LAYOUT/claims/<digest>                  who changes an environment holds a lock here
    LAYOUT/partial/…                        what is being written; nothing here is ever taken for whole

Whatever is read by others appears by one change of name, so many processes can work at once, and one that is
killed leaves nothing but litter in `partial`.
"""

import hashlib
import os
import shutil
import tempfile
import threading
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec

from rabbet.core.model.lock import LockedFile
from rabbet.errors import IntegrityFailed
from rabbet.store.atomic import cannot_write
from rabbet.store.claims import claimed
from rabbet.store.compile import Compilation, Compiler
from rabbet.store.environments import Environments
from rabbet.store.memory import Memory
from rabbet.store.unpack import StoredFile, stored_files, unpack_wheel

__all__ = ["Store", "Unpacked", "is_sound"]

_STORED_FILES = msgspec.json.Decoder(tuple[StoredFile, ...])


@dataclass(frozen=True, slots=True)
class Unpacked:
    """A wheel's files in the store: where they are, and what each was when it was unpacked."""

    tree: Path
    files: tuple[StoredFile, ...]

    def metadata(self) -> bytes:
        """The wheel's own core metadata; empty when it has none."""
        for file in self.files:
            if file.path.endswith(".dist-info/METADATA") and file.path.count("/") == 1:
                return (self.tree / file.path).read_bytes()
        return b""

    def intact(self) -> bool:
        """Whether every file still has its size and time: an edit through a hard link changes these."""
        try:
            states = [os.stat(f"{self.tree}/{file.path}") for file in self.files]  # noqa: PTH116 - thousands
        except OSError:
            return False
        return all(
            (state.st_size, state.st_mtime_ns) == (file.size, file.changed)
            for state, file in zip(states, self.files, strict=True)
        )


class Store:
    """All that is kept on this machine, below one folder. Its methods may be called from many threads."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._unpacking = threading.BoundedSemaphore(os.cpu_count() or 1)  # more would hinder each other
        self.metadata = Memory(self._folder / "metadata")
        self.listings = Memory(self._folder / "listings")
        self.runtimes = Memory(self._folder / "runtimes")
        self.repositories = self._folder / "repositories"
        self.environments = Environments(self._folder / "environments")

    def has(self, wheel: LockedFile) -> bool:
        """Whether a wheel was fetched already."""
        return self._wheel(wheel).is_file()

    def obtain(self, wheel: LockedFile, content: Callable[[], Iterable[bytes]]) -> Unpacked:
        """The files of a wheel, which is fetched and unpacked if need be, by one process at a time.

        `content` gives the wheel piece by piece, and is asked for it only where the store has none that is
        still what its hash says. Raises what `content` raises, `IntegrityFailed`, `CannotWrite`.
        """
        found = self._whole_entry(wheel)
        if found is not None:
            with suppress(OSError):
                os.utime(self._entry(wheel))  # used just now: pruning spares it
            return found
        with self.claimed(f"wheel {wheel.sha256}"):
            found = self._whole_entry(wheel)  # another process may have been faster
            if found is None:
                if not self._sound(wheel):
                    self.fetch(wheel, content())
                found = self.unpacked(wheel)
            return found

    def fetch(self, wheel: LockedFile, content: Iterable[bytes]) -> None:
        """Take in a wheel, piece by piece, verifying hash and size before it gets its name.

        Raises `IntegrityFailed` when the content is not what was locked, `CannotWrite`.
        """
        with cannot_write(self._folder):
            partial = self._partial()
        try:
            self._receive(wheel, content, partial / wheel.filename)
            with cannot_write(self._folder):
                target = self._wheel(wheel).parent
                target.mkdir(parents=True, exist_ok=True)
                (partial / wheel.filename).replace(self._wheel(wheel))
        finally:
            shutil.rmtree(partial, ignore_errors=True)

    def unpacked(self, wheel: LockedFile) -> Unpacked:
        """The files of a wheel that was fetched, unpacked now if they are not there or not intact.

        Raises `IntegrityFailed`, `CannotWrite`.
        """
        found = self._whole_entry(wheel)
        if found is not None:
            return found
        entry = self._entry(wheel)
        with cannot_write(self._folder):
            partial = self._partial()
            try:
                if entry.exists():
                    entry.rename(partial / "damaged")
                with self._unpacking:
                    files = unpack_wheel(self._wheel(wheel), partial / "entry" / "tree")
                (partial / "entry" / "files.json").write_bytes(msgspec.json.encode(files))
                entry.parent.mkdir(parents=True, exist_ok=True)
                self._publish(partial / "entry", entry)
            finally:
                shutil.rmtree(partial, ignore_errors=True)
        return Unpacked(entry / "tree", files)

    def damaged_files(self, sha256: str) -> list[str]:
        """The files of an unpacked wheel whose content is not what it was when it was unpacked."""
        entry = self._folder / "unpacked" / sha256
        found = self._read_entry(entry)
        if found is None:
            return [f"{entry}/files.json"]
        return [file.path for file in found.files if not is_sound(found.tree / file.path, file.sha256)]

    def compiled(self, wheel: LockedFile, compiler: Compiler, runtime: str) -> Unpacked:
        """The modules of an unpacked wheel, compiled by a runtime; `runtime` is its name and full version.

        Where the runtime fails there are none: they are compiled when they are imported, then. One process at
        a time compiles a wheel. Raises `CannotWrite`.
        """
        entry = self._entry(wheel) / runtime
        found = self._intact(entry)
        if found is not None:
            return found
        with self.claimed(f"{runtime} {wheel.sha256}"), cannot_write(self._folder):
            found = self._intact(entry)  # another process may have been faster
            if found is not None:
                return found
            partial = self._partial()
            try:
                if not compiler.compile(self._compilation(wheel, partial / "entry" / "tree")):
                    return Unpacked(partial, ())
                return self._keep_compiled(partial / "entry", entry)
            finally:
                shutil.rmtree(partial, ignore_errors=True)

    def _keep_compiled(self, made: Path, entry: Path) -> Unpacked:
        """Give what was compiled its name, in place of what is there and was changed."""
        files = tuple(stored_files(made / "tree"))
        (made / "tree").mkdir(parents=True, exist_ok=True)
        (made / "files.json").write_bytes(msgspec.json.encode(files))
        if entry.exists():
            entry.rename(made.with_name(f"damaged-{made.name}"))
        self._publish(made, entry)
        return Unpacked(entry / "tree", files)

    def _compilation(self, wheel: LockedFile, folder: Path) -> Compilation:
        unpacked = self._read_entry(self._entry(wheel))
        paths = [file.path for file in unpacked.files] if unpacked else []
        modules = [
            path for path in paths if path.endswith(".py") and "\n" not in path and not _is_script(path)
        ]
        return Compilation(self._entry(wheel) / "tree", modules, folder)

    def claimed(self, name: str) -> AbstractContextManager[None]:
        """Keep others from changing the thing of this name meanwhile. Raises `CannotWrite`."""
        return claimed(self._folder, name)

    def _receive(self, wheel: LockedFile, content: Iterable[bytes], partial: Path) -> None:
        digest, size = hashlib.sha256(), 0
        with cannot_write(partial), partial.open("xb") as file:
            for piece in content:
                digest.update(piece)
                size += len(piece)
                file.write(piece)
                if wheel.size is not None and size > wheel.size:
                    break  # it is another file for sure, and may have no end
        if digest.hexdigest() != wheel.sha256:
            raise IntegrityFailed(
                f"{wheel.filename} is not the file that was locked",
                because=[
                    f"locked: sha256 {wheel.sha256}",
                    f"received: sha256 {digest.hexdigest()}, {size} bytes from {wheel.url or wheel.path}",
                ],
                remedy="find out why it changed; then lock it anew with: rabbet resolve --raise-all",
            )

    def _whole_entry(self, wheel: LockedFile) -> Unpacked | None:
        """An unpacked wheel, if it is there and none of its files was changed."""
        return self._intact(self._entry(wheel))

    def _intact(self, entry: Path) -> Unpacked | None:
        found = self._read_entry(entry)
        return found if found is not None and found.intact() else None

    def _sound(self, wheel: LockedFile) -> bool:
        """Whether a wheel was fetched, and is on the disk what it was then."""
        return is_sound(self._wheel(wheel), wheel.sha256)

    def _entry(self, wheel: LockedFile) -> Path:
        return self._folder / "unpacked" / wheel.sha256

    def _wheel(self, wheel: LockedFile) -> Path:
        return self._folder / "wheels" / wheel.sha256 / wheel.filename

    def _partial(self) -> Path:
        (self._folder / "partial").mkdir(parents=True, exist_ok=True)
        return Path(tempfile.mkdtemp(dir=self._folder / "partial"))

    @staticmethod
    def _publish(made: Path, entry: Path) -> None:
        """Give an entry its name; if another process was faster, its copy serves as well."""
        try:
            made.rename(entry)
        except OSError:
            if not (entry / "files.json").is_file():
                raise

    @staticmethod
    def _read_entry(entry: Path) -> Unpacked | None:
        with suppress(OSError, msgspec.MsgspecError):
            content = (entry / "files.json").read_bytes()
            return Unpacked(entry / "tree", _STORED_FILES.decode(content))
        return None


def _is_script(path: str) -> bool:
    """Whether a wheel's file goes among the commands, where nobody imports it."""
    return ".data/scripts/" in path


def is_sound(path: Path, sha256: str) -> bool:
    """Whether a file is there and has this digest."""
    try:
        with path.open("rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest() == sha256
    except OSError:
        return False
