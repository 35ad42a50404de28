"""Give a runtime of this machine to others: packed into a folder, with a catalogue that offers it."""

import shutil
import tempfile
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from rabbet.core.limits import MOST_PAGE
from rabbet.core.model.runtime import Runtime, RuntimeArchive, RuntimeOffer
from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write, write_text
from rabbet.disk.guarded import GuardedFolder
from rabbet.disk.regular_file import read_regular
from rabbet.errors import IntegrityFailed, NoRuntime, SourceFailed
from rabbet.formats.runtime_catalogue import NotACatalogue, catalogue_text, read_catalogue, with_offer
from rabbet.runtimes.probe import probe_all, probe_languages
from rabbet.runtimes.publish import Obstacle, newest_glibc, obstacles, pack
from rabbet.workspace.machine import Machine
from rabbet.workspace.runtimes.languages import languages_for
from rabbet.workspace.runtimes.obtaining import CATALOGUE_FILE, own_target

__all__ = ["Published", "publish"]

_SHARED = ("/", "/usr", "/usr/local", "/opt", "/opt/local", "/opt/homebrew", "/srv", "/var", "/etc")
_SHOWN = 5  # reasons why a folder can't be packed
_TELLING = 12  # digits of a digest in an archive's name


class Published(Struct, frozen=True, kw_only=True):
    """A runtime that was packed, the catalogue that offers it now, and what may not work elsewhere."""

    offer: RuntimeOffer
    archive: RuntimeArchive
    catalogue: Path
    obstacles: tuple[Obstacle, ...]


def publish(machine: Machine, observer: Observer, prefix: Path, folder: Path) -> Published:
    """Pack a runtime of this machine into a folder, and add it to the catalogue there.

    It is named by its folder, or by its program. Raises `NoRuntime` for a folder that holds none, or much
    else, `IntegrityFailed` for one that nobody could obtain,
    `SourceFailed` for a catalogue that can't be read, `CannotWrite`.
    """
    prefix = _prefix_of((machine.folder / prefix).resolve())
    _refuse_shared(prefix, machine)
    runtime = _runtime_in(prefix, machine)
    observer.stage("looking for what would not work elsewhere")
    found = tuple(obstacles(prefix))
    forbidding = [f"{one.place}: {one.reason}" for one in found if one.forbids]
    if len(forbidding) > _SHOWN:
        forbidding = [*forbidding[:_SHOWN], f"and {len(forbidding) - _SHOWN} more"]
    if forbidding:
        raise IntegrityFailed(f"{prefix} can't be packed, for it needs what lies outside", because=forbidding)
    target = own_target(machine)
    glibc = newest_glibc(prefix) if target.libc[0] == "glibc" else ""
    observer.stage("packing")
    with machine.store.claimed(f"catalogue {folder}"):
        known = _kept(folder / CATALOGUE_FILE)
        archive = _packed(runtime, prefix, folder, target.platform, below=machine.folder)
        offer = RuntimeOffer(
            language=runtime.language,
            version=runtime.version,
            where="",
            distributor=runtime.distributor,
            archives=(replace(archive, baseline=f"glibc={glibc}" if glibc else ""),),
        )
        write_text(folder / CATALOGUE_FILE, catalogue_text(with_offer(known, offer)))
    return Published(offer=offer, archive=archive, catalogue=folder / CATALOGUE_FILE, obstacles=found)


def _prefix_of(path: Path) -> Path:
    """The folder of a runtime, by its own path or that of its program."""
    if not path.is_file():
        return path
    return path.parent.parent if path.parent.name == "bin" else path.parent


def _refuse_shared(prefix: Path, machine: Machine) -> None:
    """Raise `NoRuntime` for a folder in which the system, or a user, keeps much besides a runtime."""
    shared = {Path(one) for one in _SHARED} | {machine.home.resolve(), *machine.home.resolve().parents}
    if prefix in shared:
        raise NoRuntime(
            f"{prefix} holds much besides a runtime, so it is not packed",
            because=["a runtime that lies in a folder of its own can be"],
            remedy="rabbet runtimes",
        )


def _packed(runtime: Runtime, prefix: Path, folder: Path, platform: str, *, below: Path) -> RuntimeArchive:
    """The archive of a runtime, in a file whose name tells its content: no other one is ever overwritten.

    Where the folder lies `below` another one, no link may be on the way from there.
    """
    with cannot_write(folder), GuardedFolder.at(folder, below):
        partial = Path(tempfile.mkdtemp(dir=folder, prefix="."))
        try:
            sha256, size = pack(prefix, partial / "packed")
            name = f"{runtime.language}-{runtime.version}-{platform}-{sha256[:_TELLING]}.tar.gz"
            (partial / "packed").replace(folder / name)
        finally:
            shutil.rmtree(partial, ignore_errors=True)
    return RuntimeArchive(
        platform=platform,
        filename=name,
        url=(folder.resolve() / name).as_uri(),
        algorithm="sha256",
        digest=sha256,
        program=Path(runtime.executable).relative_to(prefix).as_posix(),
        size=size,
    )


def _runtime_in(prefix: Path, machine: Machine) -> Runtime:
    """The runtime that a folder holds, by what its programs tell. Raises `NoRuntime`."""
    pythons = sorted(
        path for path in prefix.glob("bin/python3*") if path.name.removeprefix("python3.").isdigit()
    )
    environ, memory = machine.helpers_environ(), machine.store.runtimes
    refused: list[str] = []
    for found in probe_all([path.resolve() for path in pythons], memory, environ):
        if isinstance(found, Runtime):
            return found
        refused.append(f"{found.executable}: {found.reason}")
    for language in languages_for(None, machine).values():
        for path in (prefix / "bin" / language.programs[0], prefix / language.programs[0]):
            for other in probe_languages([(language, path)], memory, environ) if path.is_file() else ():
                if isinstance(other, Runtime):
                    return other
                refused.append(f"{other.executable}: {other.reason}")
    raise NoRuntime(
        f"{prefix} holds no runtime that Rabbet knows",
        because=refused or ["neither it nor its bin folder holds a language's main program"],
        remedy="rabbet runtimes",
    )


def _kept(catalogue: Path) -> Sequence[RuntimeOffer]:
    """What a catalogue offers already; nothing where there is none. Raises `SourceFailed`."""
    if not catalogue.exists():
        return ()
    try:
        return read_catalogue(read_regular(catalogue, most=MOST_PAGE), catalogue.resolve().as_uri())
    except (OSError, NotACatalogue) as error:
        raise SourceFailed(
            f"{catalogue} is no catalogue that a runtime could be added to", because=[str(error)]
        ) from error
