"""The store's layout on disk, and getting wheels into it.

    LAYOUT/wheels/<sha256>/<file name>      each fetched wheel, its hash verified before it gets this name
    LAYOUT/unpacked/<sha256>/tree/…         the files of that wheel, read-only
    LAYOUT/unpacked/<sha256>/files          what they were when they were unpacked
    LAYOUT/unpacked/<sha256>/RUNTIME/…      the same two for its modules, compiled by one runtime
    LAYOUT/states/<name>                    the state that unpacked files were last found right in
    LAYOUT/metadata/<digest>                the core metadata of wheels
    LAYOUT/listings/<digest>                the parsed listings of indexes, by their address
    LAYOUT/repositories/<digest>            what was fetched of git repositories, by their address
    LAYOUT/runtimes/<digest>                what interpreters told of themselves
    LAYOUT/unchanged/<digest>               which locks and environments were found up to date
    LAYOUT/manifests/<digest>                what an environment of certain inputs consists of
    LAYOUT/claims/<digest>                  who changes an environment holds a lock here
    LAYOUT/built/<digest>                   which wheel came of building certain sources in a certain way
    LAYOUT/building/<name>/…                builds that go on: sources, environments, what they write
    LAYOUT/build-logs/<name>                what builds printed
    LAYOUT/partial/…                        what is being written; nothing here is ever taken for whole

The notes of environments are no part of it (`environments.py`).

Whatever is read by others appears by one change of name, so many processes can work at once, and one that is
killed leaves nothing but litter in `partial`. Whatever is kept carries a digest, and is held against it when
it is used: damage costs time, never truth. All folders are the user's own (0700).
"""

import os
import shutil
import tempfile
import threading
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, suppress
from pathlib import Path

from msgspec import Struct

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.model.lock import LockedFile
from rabbet.core.model.runtime import PythonRuntime
from rabbet.disk.atomic import cannot_write, write_hashed
from rabbet.disk.folder import make_folder
from rabbet.disk.process_lock import claimed
from rabbet.disk.regular_file import read_regular
from rabbet.disk.scratch import scratch_folder
from rabbet.errors import IntegrityFailed
from rabbet.store.blob_cache import BlobCache
from rabbet.store.compile import Compilation, Compiler
from rabbet.store.layout import UNPACKED
from rabbet.store.pack import Pack
from rabbet.store.trees import StoredFile, is_sound, note_state, read_tree, sound_tree, write_tree
from rabbet.store.unpack import digests_in, recorded_in, stored_files, unpack_wheel

__all__ = ["Store", "Unpacked"]


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


class Store:
    """All that is kept on this machine, below one folder. Its methods may be called from many threads."""

    def __init__(self, folder: Path, metadata: Pack) -> None:
        self._folder = folder
        self._unpacking = threading.BoundedSemaphore(os.cpu_count() or 1)  # more would hinder each other
        self._states = BlobCache(self._folder / "states")
        self.metadata = metadata
        self.runtimes = BlobCache(self._folder / "runtimes")
        self.built = BlobCache(self._folder / "built")
        self.build_logs = self._folder / "build-logs"
        self.repositories = self._folder / "repositories"

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
                os.utime(self._entry(wheel))  # used just now: sweeping spares it
            return found
        with self.claimed(f"wheel {wheel.sha256}"):
            found = self._whole_entry(wheel)  # another process may have been faster
            if found is None:
                if not self._sound(wheel):
                    self.fetch(wheel, content())
                found = self.unpacked(wheel)
            return found

    def fetch(self, wheel: LockedFile, content: Iterable[bytes]) -> None:
        """Store a wheel, piece by piece; it gets its name after its hash and size were verified.

        Raises `IntegrityFailed` when the content is not what was locked, `CannotWrite`.
        """
        with cannot_write(self._folder):
            partial = self._partial()
        try:
            self._receive(wheel, content, partial / wheel.filename)
            with cannot_write(self._folder):
                target = self._wheel(wheel).parent
                make_folder(target)
                (partial / wheel.filename).replace(self._wheel(wheel))
        finally:
            shutil.rmtree(partial, ignore_errors=True)

    def fetched(self, file: LockedFile, content: Callable[[], Iterable[bytes]]) -> Path:
        """Where a file lies that is not to be unpacked here, such as a source archive; fetched if need be.

        Raises what `obtain` raises.
        """
        with self.claimed(f"wheel {file.sha256}"):
            if not self._sound(file):
                self.fetch(file, content())
            return self._wheel(file)

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
                make_folder(partial / "entry")
                with self._unpacking:
                    files = unpack_wheel(self._wheel(wheel), partial / "entry" / "tree")
                self._publish(partial / "entry", entry, files)
            finally:
                shutil.rmtree(partial, ignore_errors=True)
        return Unpacked(entry / "tree", files)

    def known(self, wheel: LockedFile) -> Unpacked | None:
        """The files of a wheel that is unpacked already, and intact."""
        return self._whole_entry(wheel)

    def listed(self, wheel: LockedFile) -> Unpacked | None:
        """What is unpacked of a wheel, by its list alone: for who looks at the files somewhere else."""
        return self._listed(self._entry(wheel))

    def listed_compiled(self, wheel: LockedFile, runtime: PythonRuntime) -> Unpacked | None:
        """The same of its modules, as a runtime has compiled them."""
        return self._listed(self._entry(wheel) / label(runtime))

    def _listed(self, entry: Path) -> Unpacked | None:
        files = read_tree(str(entry), self._key(entry))
        return None if files is None else Unpacked(entry / "tree", files)

    def damaged_files(self, sha256: str) -> list[str]:
        """The files of an unpacked wheel that are not what the wheel holds, and what is compiled of it."""
        entry = self._folder / UNPACKED / sha256
        wheels = sorted((self._folder / "wheels" / sha256).glob("*"))
        held = digests_in(wheels[0]) if wheels else {}
        damaged = [path for path, digest in held.items() if not is_sound(entry / "tree" / path, digest)]
        self._states.forget(self._key(entry))  # so that everything is read again
        if self._intact(entry) is None:
            damaged.append(f"what was unpacked of {wheels[0].name if wheels else sha256}")
        for compiled in sorted(path for path in entry.iterdir() if path.is_dir() and path.name != "tree"):
            self._states.forget(self._key(compiled))
            if self._intact(compiled) is None:
                damaged.append(f"what {compiled.name} compiled of {wheels[0].name if wheels else sha256}")
        return damaged

    def hold_against_wheel(self, wheel: LockedFile, *, whole: bool = True) -> None:
        """Give up what was unpacked of a wheel, if that holds something else. Raises `CannotWrite`.

        Without the `whole`, what is read is the wheel's own record and the files that installing reads: for
        who holds all other files, where they were installed, against the list that agrees with that record.
        """
        if not self._entry(wheel).is_dir():
            return
        with self.claimed(f"wheel {wheel.sha256}"), cannot_write(self._folder):
            if not self._sound(wheel):
                shutil.rmtree(self._wheel(wheel).parent, ignore_errors=True)
            damaged = self.damaged_files if whole else self._unlike_record
            if not self._wheel(wheel).is_file() or damaged(wheel.sha256):
                partial = self._partial()
                self._entry(wheel).rename(partial / "damaged")
                shutil.rmtree(partial, ignore_errors=True)

    def _unlike_record(self, sha256: str) -> bool:
        """Whether an unpacked wheel has another list than the wheel, or other files that installing reads."""
        entry = self._folder / UNPACKED / sha256
        recorded = recorded_in(next((self._folder / "wheels" / sha256).glob("*")))
        files = read_tree(str(entry), self._key(entry)) or ()
        if {file.path for file in files} != set(recorded):
            return True
        for file in files:
            row = recorded[file.path]
            if row.digest is not None and row.sha256 is None:
                return bool(self.damaged_files(sha256))  # a hash of another kind says nothing of the list's
            if row.sha256 not in (None, file.sha256):
                return True
            if _is_read(file.path) and not is_sound(entry / "tree" / file.path, file.sha256):
                return True
        return False

    def trees(self, wheels: Iterable[LockedFile], runtime: PythonRuntime) -> list[tuple[str, Path]]:
        """The trees of wheels, those of their compiled modules too, each with the key of its state."""
        entries = (
            place for wheel in wheels for place in (self._entry(wheel), self._entry(wheel) / label(runtime))
        )
        return [(self._key(entry), entry / "tree") for entry in entries if (entry / "tree").is_dir()]

    def note_linked(self, wheels: Iterable[LockedFile], runtime: PythonRuntime) -> None:
        """Files were just linked from the trees of wheels, which changed their state: it is known again.

        Only whoever has had these trees from here meanwhile may say so.
        """
        for key, tree in self.trees(wheels, runtime):
            with suppress(OSError):
                note_state(str(tree.parent), key, self._states)

    def compiled(self, wheel: LockedFile, compiler: Compiler, runtime: PythonRuntime) -> Unpacked:
        """The modules of an unpacked wheel, compiled by a runtime.

        Where the runtime fails there are none: they are compiled when they are imported, then. One process at
        a time compiles a wheel. Raises `CannotWrite`.
        """
        entry = self._entry(wheel) / label(runtime)
        found = self._intact(entry)
        if found is not None:
            return found
        with self.claimed(f"{label(runtime)} {wheel.sha256}"), cannot_write(self._folder):
            found = self._intact(entry)  # another process may have been faster
            if found is not None:
                return found
            partial = self._partial()
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
        self._publish(made, entry, files)
        return Unpacked(entry / "tree", files)

    def _compilation(self, wheel: LockedFile, folder: Path) -> Compilation:
        entry = self._entry(wheel)
        paths = [file.path for file in read_tree(str(entry), self._key(entry)) or ()]
        modules = [
            path for path in paths if path.endswith(".py") and "\n" not in path and not _is_script(path)
        ]
        return Compilation(self._entry(wheel) / "tree", modules, folder)

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
                note="find out why it changed before you lock it anew",
                remedy="rabbet resolve --fresh-listings",
            )

    def _whole_entry(self, wheel: LockedFile) -> Unpacked | None:
        """An unpacked wheel, if it is there and none of its files was changed."""
        return self._intact(self._entry(wheel))

    def _intact(self, entry: Path) -> Unpacked | None:
        with self._unpacking:
            files = sound_tree(str(entry), self._key(entry), self._states)
        return None if files is None else Unpacked(entry / "tree", files)

    def _sound(self, wheel: LockedFile) -> bool:
        """Whether a wheel was fetched, and is on the disk what it was then."""
        return is_sound(self._wheel(wheel), wheel.sha256)

    def _entry(self, wheel: LockedFile) -> Path:
        return self._folder / UNPACKED / wheel.sha256

    def _wheel(self, wheel: LockedFile) -> Path:
        return self._folder / "wheels" / wheel.sha256 / wheel.filename

    def _partial(self) -> Path:
        make_folder(self._folder / "partial")
        return Path(tempfile.mkdtemp(dir=self._folder / "partial"))

    def _key(self, entry: Path) -> str:
        """The key of the state that a tree was last found right in."""
        return "-".join(entry.relative_to(self._folder / UNPACKED).parts)

    def _publish(self, made: Path, entry: Path, files: tuple[StoredFile, ...]) -> None:
        """Give an entry its name; if another process was faster, its copy serves as well."""
        write_tree(str(made), self._key(entry), files)
        make_folder(entry.parent)
        try:
            made.rename(entry)
        except OSError:
            if read_tree(str(entry), self._key(entry)) is None:
                raise
        note_state(str(entry), self._key(entry), self._states)


def _is_read(path: str) -> bool:
    """Whether installing reads a file of a wheel, in place of only linking it."""
    return path.endswith((".dist-info/METADATA", ".dist-info/entry_points.txt")) or ".data/scripts/" in path


def label(runtime: PythonRuntime) -> str:
    """The name of what one runtime compiled: another one's modules may differ."""
    return f"{runtime.distributor}-{runtime.version}"


def _is_script(path: str) -> bool:
    """Whether a wheel's file goes among the commands, where nobody imports it."""
    return ".data/scripts/" in path
