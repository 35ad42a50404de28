"""The store's layout on disk, and getting wheels into it.

    LAYOUT/wheels/<sha256>/<file name>      each fetched wheel, its hash verified before it gets this name
    LAYOUT/unpacked/<sha256>/tree/…         the files of that wheel, read-only
    LAYOUT/unpacked/<sha256>/files          what they were when they were unpacked
    LAYOUT/unpacked/<sha256>/RUNTIME/…      the same two for its modules, compiled by one runtime
    LAYOUT/states/<name>                    the state that unpacked files were last found right in
    LAYOUT/metadata/all.sqlite              the core metadata of wheels
    LAYOUT/listings/<digest>.sqlite         the parsed listings of indexes, by their address
    LAYOUT/repositories/<digest>            what was fetched of git repositories, by their address
    LAYOUT/runtimes/<digest>                what interpreters report of themselves
    LAYOUT/unchanged/<digest>               which locks and environments were found up to date
    LAYOUT/manifests/<digest>                what an environment of certain inputs consists of
    LAYOUT/claims/<digest>                  who changes an environment holds a lock here
    LAYOUT/built/<digest>                   which wheel came of building certain sources in a certain way
    LAYOUT/building/<name>/…                builds that go on: sources, environments, what they write
    LAYOUT/build-logs/<name>                what builds printed
    LAYOUT/partial/…                        what is being written; nothing here is ever taken for whole

The notes of environments are no part of it (`environments.py`).

Whatever is read by others appears by one change of name, so many processes can work at once, and one that is
killed leaves nothing but litter in `partial`. Whatever is kept carries a digest, and is compared with it when
it is used: damage costs time, never truth. All folders are the user's own (0700).
"""

import os
import shutil
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, suppress
from pathlib import Path

from rabbet.core.model.lock import LockedFile
from rabbet.core.model.runtime import PythonRuntime
from rabbet.disk.atomic import cannot_write, write_hashed
from rabbet.disk.folder import make_folder
from rabbet.disk.process_lock import claimed
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import IntegrityFailed
from rabbet.python.store.compile import Compilation, Compiler
from rabbet.python.store.entries import Entries, Unpacked
from rabbet.python.store.unpack import stored_files, unpack_wheel
from rabbet.store.blob_cache import BlobCache
from rabbet.store.pack import Pack
from rabbet.store.trees import read_tree

__all__ = ["Store"]


class Store:
    """All that is kept on this machine, below one folder. Its methods may be called from many threads."""

    def __init__(self, folder: Path, metadata: Pack) -> None:
        self._folder = folder
        self.entries = Entries(folder)
        self.metadata = metadata
        self.runtimes = BlobCache(self._folder / "runtimes")
        self.built = BlobCache(self._folder / "built")
        self.build_logs = self._folder / "build-logs"
        self.repositories = self._folder / "repositories"

    def has(self, wheel: LockedFile) -> bool:
        """Whether a wheel was fetched already."""
        return self.entries.wheel(wheel).is_file()

    def obtain(self, wheel: LockedFile, content: Callable[[], Iterable[bytes]]) -> Unpacked:
        """The files of a wheel, which is fetched and unpacked if need be, by one process at a time.

        `content` gives the wheel piece by piece, and is asked for it only where the store has none that is
        still what its hash says. Raises what `content` raises, `IntegrityFailed`, `CannotWrite`.
        """
        found = self.known(wheel)
        if found is not None:
            with suppress(OSError):
                os.utime(self.entries.unpacked(wheel))  # used just now: sweeping spares it
            return found
        with self.claimed(f"wheel {wheel.sha256}"):
            found = self.known(wheel)  # another process may have been faster
            if found is None:
                if not self.entries.is_whole(wheel):
                    self.fetch(wheel, content())
                found = self.unpacked(wheel)
            return found

    def fetch(self, wheel: LockedFile, content: Iterable[bytes]) -> None:
        """Store a wheel, piece by piece; it gets its name after its hash and size were verified.

        Raises `IntegrityFailed` when the content is not what was locked, `CannotWrite`.
        """
        with cannot_write(self._folder):
            partial = self.entries.partial()
        try:
            self._receive(wheel, content, partial / wheel.filename)
            with cannot_write(self._folder):
                target = self.entries.wheel(wheel).parent
                make_folder(target)
                (partial / wheel.filename).replace(self.entries.wheel(wheel))
        finally:
            shutil.rmtree(partial, ignore_errors=True)

    def fetched(self, file: LockedFile, content: Callable[[], Iterable[bytes]]) -> Path:
        """Where a file lies that is not to be unpacked here, such as a source archive; fetched if need be.

        Raises what `obtain` raises.
        """
        with self.claimed(f"wheel {file.sha256}"):
            if not self.entries.is_whole(file):
                self.fetch(file, content())
            return self.entries.wheel(file)

    def unpacked(self, wheel: LockedFile) -> Unpacked:
        """The files of a wheel that was fetched, unpacked now if they are not there or not intact.

        Raises `IntegrityFailed`, `CannotWrite`.
        """
        found = self.known(wheel)
        if found is not None:
            return found
        entry = self.entries.unpacked(wheel)
        with cannot_write(self._folder):
            partial = self.entries.partial()
            try:
                if entry.exists():
                    entry.rename(partial / "damaged")
                make_folder(partial / "entry")
                with self.entries.one_a_core:
                    files = unpack_wheel(self.entries.wheel(wheel), partial / "entry" / "tree")
                self.entries.publish(partial / "entry", entry, files)
            finally:
                shutil.rmtree(partial, ignore_errors=True)
        return Unpacked(entry / "tree", files)

    def known(self, wheel: LockedFile) -> Unpacked | None:
        """The files of a wheel that is unpacked already, and intact."""
        return self.entries.intact(self.entries.unpacked(wheel))

    def listed(self, wheel: LockedFile) -> Unpacked | None:
        """An unpacked wheel by its list alone, for callers that verify the files elsewhere."""
        return self.entries.listed(self.entries.unpacked(wheel))

    def listed_compiled(self, wheel: LockedFile, runtime: PythonRuntime) -> Unpacked | None:
        """The same of its modules, as a runtime has compiled them."""
        return self.entries.listed(self.entries.compiled(wheel, runtime))

    def trees(self, wheels: Iterable[LockedFile], runtime: PythonRuntime) -> list[tuple[str, Path]]:
        """The trees of wheels, those of their compiled modules too, each with the key of its state."""
        entries = (
            place
            for wheel in wheels
            for place in (self.entries.unpacked(wheel), self.entries.compiled(wheel, runtime))
        )
        return [(self.entries.key(entry), entry / "tree") for entry in entries if (entry / "tree").is_dir()]

    def note_linked(self, wheels: Iterable[LockedFile], runtime: PythonRuntime) -> None:
        """Files were just linked from the trees of wheels, which changed their state: it is known again.

        Only callers that have just got these trees from the store may call this.
        """
        for _, tree in self.trees(wheels, runtime):
            with suppress(OSError):
                self.entries.note_state(tree.parent)

    def compiled(self, wheel: LockedFile, compiler: Compiler, runtime: PythonRuntime) -> Unpacked:
        """The modules of an unpacked wheel, compiled by a runtime.

        Where the runtime fails there are none: they are compiled when they are imported, then. One process at
        a time compiles a wheel. Raises `CannotWrite`.
        """
        entry = self.entries.compiled(wheel, runtime)
        found = self.entries.intact(entry)
        if found is not None:
            return found
        with self.claimed(f"{entry.name} {wheel.sha256}"), cannot_write(self._folder):
            found = self.entries.intact(entry)  # another process may have been faster
            if found is not None:
                return found
            partial = self.entries.partial()
            try:
                make_folder(partial / "entry" / "tree")
                if not compiler.compile(self._compilation(wheel, partial / "entry" / "tree")):
                    return Unpacked(partial, ())
                return self._keep_compiled(partial / "entry", entry)
            finally:
                shutil.rmtree(partial, ignore_errors=True)

    def _keep_compiled(self, made: Path, entry: Path) -> Unpacked:
        """Give what was compiled its name, in place of what is there and was changed."""
        files = tuple(stored_files(made / "tree"))
        if entry.exists():
            entry.rename(made.with_name(f"damaged-{made.name}"))
        self.entries.publish(made, entry, files)
        return Unpacked(entry / "tree", files)

    def _compilation(self, wheel: LockedFile, folder: Path) -> Compilation:
        entry = self.entries.unpacked(wheel)
        paths = [file.path for file in read_tree(str(entry), self.entries.key(entry)) or ()]
        modules = [
            path for path in paths if path.endswith(".py") and "\n" not in path and not _is_script(path)
        ]
        return Compilation(self.entries.unpacked(wheel) / "tree", modules, folder)

    def scratch(self) -> AbstractContextManager[Path]:
        """A folder for a build, which is thrown away in the end. Raises `CannotWrite`."""
        return scratch_folder(self._folder / "building")

    def claimed(self, name: str) -> AbstractContextManager[None]:
        """Keep others from changing the thing of this name meanwhile. Raises `CannotWrite`."""
        return claimed(self._folder, name)

    def _receive(self, wheel: LockedFile, content: Iterable[bytes], partial: Path) -> None:
        digest, size = write_hashed(partial, content, algorithm="sha256", most=wheel.size)
        if digest != wheel.sha256:
            raise IntegrityFailed(
                f"{wheel.filename} is not the file that was locked",
                because=[
                    f"locked: sha256 {wheel.sha256}",
                    f"received: sha256 {digest}, {size} bytes from {wheel.url or wheel.path}",
                ],
                note="find out why it changed before you lock it again",
                remedy="rabbet resolve --fresh-listings",
            )


def _is_script(path: str) -> bool:
    """Whether a wheel's file goes among the commands, where nobody imports it."""
    return ".data/scripts/" in path
