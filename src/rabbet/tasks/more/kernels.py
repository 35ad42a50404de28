"""Registering the environment as a kernel for notebooks, listing such kernels, and taking one back."""

import sys
from collections.abc import Iterator
from hashlib import sha256
from pathlib import Path

from msgspec import Struct

from rabbet.core.limits import MOST_BY_HAND
from rabbet.core.shell import variant_option
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder
from rabbet.disk.regular_file import read_regular
from rabbet.errors import CannotWrite, EnvironmentFailed
from rabbet.exports.kernel import LIBRARY, Kernel, kernel_name, read_kernel, written_kernel
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.layout import commands_in, interpreter_in
from rabbet.python.environment.place.variables import ACTIVE
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import not_made_here
from rabbet.workspace.session import Session

__all__ = ["KnownKernel", "known_kernels", "register_kernel", "take_kernel_back"]

_FILE = "kernel.json"


class KnownKernel(Struct, frozen=True, kw_only=True):
    """A registered kernel, its folder, and whether its environment is still there."""

    folder: Path
    kernel: Kernel
    there: bool


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
    folder = kernels_folder(session.machine) / _name(called, root)
    _refuse_others(folder)
    with cannot_write(folder), GuardedFolder.at(folder) as opened:
        opened.write(_FILE, text.encode(errors="surrogateescape"))
    return KnownKernel(folder=folder, kernel=kernel, there=True)


def take_kernel_back(session: Session) -> KnownKernel:
    """Remove what was registered of the project's environment. Raises `EnvironmentFailed`, `CannotWrite`."""
    root = session.project.environment
    found = next(
        (known for known in known_kernels(session.machine) if known.kernel.environment == root), None
    )
    if found is None:
        raise EnvironmentFailed(f"{root.name} is not registered as a kernel", remedy="rabbet export kernels")
    with cannot_write(found.folder), GuardedFolder(found.folder.parent) as opened:
        opened.remove_tree(found.folder.name)
    return found


def known_kernels(machine: Machine) -> Iterator[KnownKernel]:
    """The kernels that were registered here, by their folders; those of others are passed over."""
    above = kernels_folder(machine)
    for folder in sorted(above.iterdir()) if above.is_dir() else ():
        kernel = _kernel_in(folder)
        if kernel is not None:
            there = interpreter_in(kernel.environment).exists()
            yield KnownKernel(folder=folder, kernel=kernel, there=there)


def _kernel_in(folder: Path) -> Kernel | None:
    """The kernel that a folder holds, if it was registered here."""
    try:
        return read_kernel(read_regular(folder / _FILE, most=MOST_BY_HAND).decode("utf-8", "replace"))
    except OSError:
        return None


def kernels_folder(machine: Machine) -> Path:
    """The user's folder for kernels, where notebooks look for them."""
    named = machine.environ.get("JUPYTER_DATA_DIR")
    if named:
        return Path(named) / "kernels"
    if sys.platform == "darwin":
        return machine.home / "Library" / "Jupyter" / "kernels"
    data = machine.environ.get("XDG_DATA_HOME")
    return (Path(data) if data else machine.home / ".local" / "share") / "jupyter" / "kernels"


def _name(called: str, root: Path) -> str:
    return kernel_name(called, sha256(str(root).encode(errors="surrogateescape")).hexdigest()[:8])


def _refuse_others(folder: Path) -> None:
    """Raise `CannotWrite` where something of somebody else lies in a kernel's place."""
    if folder.exists() and _kernel_in(folder) is None:
        raise CannotWrite(f"{folder} was not written here, and is left as it is")
