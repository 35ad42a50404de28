"""The store as its owner sees it: what it holds, what can go, whether it is sound."""

import hashlib
import platform
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from rabbet.core.progress import Observer
from rabbet.disk.atomic import cannot_write
from rabbet.disk.text_file import read_text
from rabbet.errors import RabbetError
from rabbet.formats.pylock import read_lock
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.python.store.maintenance import Holding, Removed, check, holdings, sweep
from rabbet.store.environments import Environments
from rabbet.store.layout import LAYOUT, OBTAINED
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project, stamp_of

__all__ = ["Overview", "cache_key", "check_store", "overview", "sweep_store"]


class Overview(Struct, frozen=True, kw_only=True):
    """Where the store is, its parts, and how many known environments are linked from it."""

    folder: Path
    holdings: tuple[Holding, ...]
    environments: int


def overview(machine: Machine) -> Overview:
    """Measure the store."""
    folder = machine.store_folder
    known = machine.environments().known()
    return Overview(folder=folder, holdings=holdings(folder), environments=len(known))


def sweep_store(machine: Machine, observer: Observer, *, older: int) -> tuple[Removed, ...]:
    """Remove what no known environment or lock uses. Raises `CannotWrite`."""
    store = machine.store
    observer.stage("looking for what is used")
    environments = machine.environments()
    used = frozenset(sha256 for root in environments.known() for sha256 in _used_by(root, environments))
    observer.stage("removing the rest")
    environments.sweep(older)
    with cannot_write(machine.store_folder):
        return sweep(store, machine.store_folder, used, older=older)


def check_store(machine: Machine, observer: Observer) -> tuple[str, ...]:
    """Read everything again and remove what is damaged; the names of the files. Raises `CannotWrite`."""
    observer.stage("reading every file of the store")
    with cannot_write(machine.store_folder):
        return tuple(check(machine.store, machine.store_folder))


def cache_key(project: Project) -> str:
    """The key under which a CI service should cache the store between runs.

    It follows from the platform, the store's layout and the texts of all locks. Raises `NoLock`.
    """
    project.lock()  # which says if there is none
    digest = hashlib.sha256(LAYOUT.encode())
    for path in sorted(project.home.glob("pylock*.toml")):
        digest.update(f"{path.name}\n{stamp_of(read_text(path))}\n".encode())
    return f"rabbet-{platform.system().lower()}-{platform.machine().lower()}-{digest.hexdigest()[:16]}"


def _used_by(root: Path, environments: Environments) -> Iterator[str]:
    """The digests of what an environment and its locks use; a lock that can't be read names none."""
    install_state = own_install_state(root, environments)
    if install_state is not None:
        yield from (origin.wheel for origin in install_state.libraries.values())
        for program in (install_state.executable, *install_state.runtimes.values()):
            folder = Path(program.partition(f"/{OBTAINED}/")[2]).parts[:1]
            yield from (name.rpartition("-")[2] for name in folder)
    for path in sorted(root.parent.glob("pylock*.toml")):
        try:
            lock = read_lock(read_text(path), path.name)
        except RabbetError:
            continue
        yield from (file.sha256 for library in lock.libraries for file in library.wheels)
        yield from (archive.digest for runtime in lock.runtimes for archive in runtime.archives)
