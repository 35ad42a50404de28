"""Registering the environment as a kernel for notebooks, listing such kernels, and taking one back."""

from collections.abc import Iterator
from hashlib import sha256
from pathlib import Path

from rabbet.core.shell import variant_option
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder
from rabbet.errors import CannotWrite, EnvironmentFailed
from rabbet.exports.kernel import (
    FILE,
    LIBRARY,
    Kernel,
    KnownKernel,
    kernel_name,
    kernels_folder,
    known_kernels,
    read_kernel,
    written_kernel,
)
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.layout import commands_in, interpreter_in
from rabbet.python.environment.place.variables import ACTIVE
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import not_made_here
from rabbet.workspace.session import Session

__all__ = ["kernels_here", "register_kernel", "take_kernel_back", "take_lost_back"]


def register_kernel(session: Session) -> KnownKernel:
    """Register the environment; one that is registered already gets its present title.

    Raises `EnvironmentFailed` without an environment, and where the library that a kernel needs is not
    installed in it; `CannotWrite`.
    """
    project = session.project
    root, option = project.environment, variant_option(project.variant)
    if not root.exists():
        raise EnvironmentFailed(f"there is no {root.name}", remedy=f"rabbet recreate{option}")
    if not session.machine.environments().owns(root):
        raise not_made_here(project)
    configuration = read_configuration(root)
    if not any((root / configuration.site_packages).glob(f"{LIBRARY}-*.dist-info")):
        raise EnvironmentFailed(
            f"{LIBRARY} is not installed in {root.name}, and notebooks start a kernel through it",
            remedy=f"rabbet declare {LIBRARY} --now",
        )
    python = configuration.python
    called = session.declaration().name + (f" {project.variant}" if project.variant else "")
    kernel = Kernel(f"{called} (Python {python.major}.{python.minor})", root, str(project.folder))
    variables = {"PATH": f"{commands_in(root)}:${{PATH}}", ACTIVE: str(root)}
    text = written_kernel(kernel, interpreter_in(root), variables)
    folder = _kernels_folder(session.machine) / _name(called, root)
    _refuse_others(folder)
    with cannot_write(folder), GuardedFolder.at(folder) as opened:
        opened.write(FILE, text.encode(errors="surrogateescape"))
    return KnownKernel(folder, kernel, there=True)


def take_kernel_back(session: Session) -> KnownKernel:
    """Remove what was registered of the project's environment. Raises `EnvironmentFailed`, `CannotWrite`."""
    root = session.project.environment
    found = next((known for known in kernels_here(session.machine) if known.kernel.environment == root), None)
    if found is None:
        raise EnvironmentFailed(f"{root.name} is not registered as a kernel", remedy="rabbet export kernels")
    _remove(found)
    return found


def kernels_here(machine: Machine) -> Iterator[KnownKernel]:
    """All kernels that were registered here."""
    return known_kernels(_kernels_folder(machine))


def take_lost_back(machine: Machine) -> list[KnownKernel]:
    """Remove the kernels whose environments are gone. Raises `CannotWrite`."""
    lost = [known for known in kernels_here(machine) if not known.there]
    for known in lost:
        _remove(known)
    return lost


def _remove(known: KnownKernel) -> None:
    with cannot_write(known.folder), GuardedFolder(known.folder.parent) as opened:
        opened.remove_tree(known.folder.name)


def _kernels_folder(machine: Machine) -> Path:
    return kernels_folder(machine.environ, machine.home)


def _name(called: str, root: Path) -> str:
    return kernel_name(called, sha256(str(root).encode(errors="surrogateescape")).hexdigest()[:8])


def _refuse_others(folder: Path) -> None:
    """Raise `CannotWrite` where something of somebody else lies in a kernel's place."""
    if folder.exists() and read_kernel(folder) is None:
        raise CannotWrite(f"{folder} was not written here, and is left as it is")
