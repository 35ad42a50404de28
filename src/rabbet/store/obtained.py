"""Runtimes that were obtained: fetched, verified and unpacked, each archive once on this machine."""

import hashlib
import os
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from rabbet.archives.unpack import unpack_archive
from rabbet.core.limits import MOST_METADATA, UNREADABLE
from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import RuntimeArchive, RuntimeOffer
from rabbet.disk.atomic import cannot_write, write_bytes, write_hashed
from rabbet.disk.folder import make_folder
from rabbet.disk.process_lock import claimed
from rabbet.disk.regular_file import read_regular
from rabbet.errors import IntegrityFailed
from rabbet.store.layout import OBTAINED

__all__ = ["Obtained", "ObtainedRuntimes", "digest_of_entry", "receive_archive"]

_NOTE = "runtime.json"
_ENOUGH, _FEW = 32, 8  # digits of an archive's digest, which tell it from all others, and of a program's


class Obtained(msgspec.Struct, frozen=True):
    """A runtime in the store: where it came from, and the place of its main program below its folder.

    `catalogues` are those that offered it, read by Rabbet itself; those known from a lock alone have none.
    `folder` is the entry's own, by its name.
    """

    language: str
    version: str
    distributor: str
    url: str
    program: str
    folder: str = ""
    catalogues: tuple[str, ...] = ()

    @property
    def digest(self) -> str:
        """The beginning of its archive's digest, which tells it from all others."""
        return digest_of_entry(self.folder)

    def is_named_by(self, runtime: LockedRuntime) -> bool:
        """Whether a lock names just this: the language, the version, an archive and the program in it."""
        return (self.language, self.version) == (runtime.language, str(runtime.version)) and any(
            archive.digest.startswith(self.digest) and archive.program == self.program
            for archive in runtime.archives
        )

    def path(self, store: Path) -> Path:
        """The main program, in the store that lies in this folder."""
        return store / OBTAINED / self.folder / "tree" / self.program


_DECODER = msgspec.json.Decoder(Obtained)


def digest_of_entry(folder: str) -> str:
    """The beginning of an archive's digest, by the name of the entry that was unpacked from it."""
    return folder.rpartition("-")[2]


class ObtainedRuntimes:
    """The obtained runtimes, in a part of the store."""

    def __init__(self, store: Path) -> None:
        self._store = store

    def all(self) -> tuple[Obtained, ...]:
        """Every runtime that is there as a whole."""
        return tuple(self._noted())

    def obtain(
        self, offer: RuntimeOffer, archive: RuntimeArchive, content: Callable[[], Iterable[bytes]]
    ) -> Obtained:
        """A runtime, whose archive is fetched, verified and unpacked if need be, by one process at a time.

        An offer that comes from no catalogue, but from a lock, says nothing of `where` it comes from. Raises
        what `content` raises, `IntegrityFailed`, `CannotWrite`.
        """
        folder = _folder_of(offer, archive)
        with claimed(self._store, f"runtime {folder}"):
            known = self._read(folder)
            if known is not None:
                with suppress(OSError):
                    os.utime(self._store / OBTAINED / folder)  # used just now: sweeping spares it
                return self._also_from(offer, known)
            with cannot_write(self._store):
                make_folder(self._store / OBTAINED)
                partial = Path(tempfile.mkdtemp(dir=self._store / OBTAINED, prefix="."))
            try:
                receive_archive(archive, content(), partial / archive.filename)
                with cannot_write(self._store):
                    return self._publish(offer, archive, partial, folder)
            finally:
                shutil.rmtree(partial, ignore_errors=True)

    def make(self, offer: RuntimeOffer, archive: RuntimeArchive, install: Callable[[Path], None]) -> Obtained:
        """A runtime that is installed, by one process at a time, into the folder where it stays.

        It may hold that folder's path. Nothing refers to it until it is complete, and leftovers of a killed
        run are removed first. Raises what `install` raises, `CannotWrite`.
        """
        folder = _folder_of(offer, archive)
        entry = self._store / OBTAINED / folder
        with claimed(self._store, f"runtime {folder}"):
            known = self._read(folder)
            if known is not None:
                return self._also_from(offer, known)
            try:
                with cannot_write(entry):
                    make_folder(self._store / OBTAINED)
                    shutil.rmtree(entry, ignore_errors=True)
                    (entry / "tree").mkdir(parents=True)
                install(entry / "tree")
                runtime = _noted_as(offer, archive, folder)
                write_bytes(entry / _NOTE, msgspec.json.encode(runtime))
            except BaseException:
                shutil.rmtree(entry, ignore_errors=True)
                raise
        return runtime

    def discard(self, runtime: Obtained) -> None:
        """Remove a runtime. Raises `CannotWrite`."""
        entry = self._store / OBTAINED / runtime.folder
        with claimed(self._store, f"runtime {runtime.folder}"), cannot_write(entry):
            litter = Path(tempfile.mkdtemp(dir=entry.parent, prefix="."))
            entry.rename(litter / "entry")
        shutil.rmtree(litter, ignore_errors=True)

    def _also_from(self, offer: RuntimeOffer, known: Obtained) -> Obtained:
        """A runtime that is there already, noted as offered by one more catalogue. Raises `CannotWrite`."""
        if not offer.where or offer.where in known.catalogues:
            return known
        more = replace(known, catalogues=(*known.catalogues, offer.where), distributor=offer.distributor)
        write_bytes(self._store / OBTAINED / known.folder / _NOTE, msgspec.json.encode(more))
        return more

    def _publish(self, offer: RuntimeOffer, archive: RuntimeArchive, partial: Path, folder: str) -> Obtained:
        """Unpack an archive beside its final place, and give it that in one step."""
        entry = partial / "entry"
        unpack_archive(partial / archive.filename, entry / "tree")
        program = entry / "tree" / archive.program
        if not program.is_file():
            raise IntegrityFailed(
                f"{archive.filename} holds no program where its catalogue says",
                because=[f"{archive.program} is not there"],
            )
        program.chmod(0o555)  # some wheels are made where files don't tell whether they can be run
        runtime = _noted_as(offer, archive, folder)
        (entry / _NOTE).write_bytes(msgspec.json.encode(runtime))
        entry.rename(self._store / OBTAINED / folder)
        return runtime

    def _noted(self) -> Iterator[Obtained]:
        try:
            names = sorted(os.listdir(self._store / OBTAINED))  # noqa: PTH208 - a part of most runs
        except OSError:
            return
        for name in names:
            found = self._read(name) if not name.startswith(".") else None
            if found is not None:
                yield found

    def _read(self, folder: str) -> Obtained | None:
        try:
            note = read_regular(self._store / OBTAINED / folder / _NOTE, most=MOST_METADATA)
            runtime = _DECODER.decode(note)
        except (OSError, msgspec.MsgspecError, *UNREADABLE):
            return None
        return runtime if runtime.folder == folder and runtime.path(self._store).is_file() else None


def _folder_of(offer: RuntimeOffer, archive: RuntimeArchive) -> str:
    """The name of the folder of a runtime in the store."""
    told = hashlib.sha256(archive.program.encode(errors="surrogateescape")).hexdigest()[:_FEW]
    return f"{offer.language}-{offer.version}-{told}-{archive.digest[:_ENOUGH]}"


def _noted_as(offer: RuntimeOffer, archive: RuntimeArchive, folder: str) -> Obtained:
    return Obtained(
        language=offer.language,
        version=str(offer.version),
        distributor=offer.distributor,
        url=archive.url,
        program=archive.program,
        folder=folder,
        catalogues=(offer.where,) if offer.where else (),
    )


def receive_archive(archive: RuntimeArchive, content: Iterable[bytes], path: Path) -> None:
    """Write an archive while hashing it. Raises `IntegrityFailed` if it is another one than was offered."""
    digest, size = write_hashed(path, content, algorithm=archive.algorithm, most=archive.size)
    if digest != archive.digest:
        raise IntegrityFailed(
            f"{archive.filename} is not the file that the catalogue names",
            because=[
                f"told: {archive.algorithm} {archive.digest}",
                f"received: {archive.algorithm} {digest}, {size} bytes from {archive.url}",
            ],
            note="find out why it changed before you take it",
        )
