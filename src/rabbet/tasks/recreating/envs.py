"""All environments of this machine that Rabbet made, and discarding one.

A list has to be quick, so it reads the notes in each environment, which name the lock that it was made from.
Its files are read, and compared with the lock, only where that is asked for.
"""

import os
import shutil
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from packaging.version import Version

from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
from rabbet.disk.atomic import cannot_write
from rabbet.disk.file_states import Size, size_of
from rabbet.disk.named import path_named
from rabbet.errors import EnvironmentFailed, NotUnderstood, RabbetError
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.install_state import STATE_FILE, InstallState, own_install_state
from rabbet.python.environment.place.layout import interpreter_in
from rabbet.python.environment.place.staging import discard_environment
from rabbet.python.environment.place.variables import ACTIVE
from rabbet.workspace.looking.result_cache import recall_fit
from rabbet.workspace.machine import Machine
from rabbet.workspace.places import home_of, named_folder, named_projects, project_around
from rabbet.workspace.project import ENVIRONMENT, Project
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.model.plan import Plan

__all__ = ["KnownEnvironment", "discard", "kept_whole", "known_environments"]


class KnownEnvironment(Struct, frozen=True, kw_only=True):
    """One environment; `python` is `None` where it can't be told, `unfit` says why it does not fit its lock.

    A `place` is what `--in` takes for it, a name or a script; it is empty where that is the project's folder.
    `groups` and `extras` are those that were chosen, `None` for all. Its files were `checked`, or its notes
    alone. `used` is when it was last used or made (seconds since the epoch).
    """

    root: Path
    project: str
    place: str
    python: Version | None
    groups: tuple[str, ...] | None
    extras: tuple[str, ...] | None
    size: Size
    unfit: str | None
    checked: bool
    used: float | None
    active: bool


def known_environments(
    machine: Machine, observer: Observer, *, check: bool = False
) -> tuple[KnownEnvironment, ...]:
    """Every environment that was made here and is still there, and projects with a name that have none yet.

    To `check` them, their files are read.
    """
    observer.stage("looking at environments")
    found = []
    for root in machine.environments().known():
        observer.waiting(str(root))
        found.append(_look(root, machine, check=check))
    roots = {environment.root for environment in found}
    named = (project for project in named_projects(machine) if project.environment not in roots)
    return (*found, *(_not_made(project) for project in named))


def discard(machine: Machine, named: str) -> Path:
    """Remove an environment: its folder, or the project that it belongs to, by its folder or its name.

    Of a project that has a name and no folder all is removed, and of a script all that is kept of it. The
    store keeps what it holds. Raises `EnvironmentFailed` for a folder that Rabbet did not make and for a
    name that several have, `CannotWrite`.
    """
    folder, environments = path_named(named, machine.folder), machine.environments()
    whole = kept_whole(machine, named)
    if whole is not None:
        return _discard_whole(whole, machine)
    root = next((path for path in (folder, folder / ENVIRONMENT) if environments.owns(path)), None)
    if root is None:
        called = [path for path in environments.known() if path.parent.name == named]
        if len(called) > 1:
            raise EnvironmentFailed(
                f"several environments belong to a project in a folder named {named}",
                because=[str(path) for path in called],
                remedy=f"rabbet envs discard {quoted(str(called[0]))}",
                or_else=[f"rabbet envs discard {quoted(str(path))}" for path in called[1:]],
            )
        root = called[0] if called else None
    if root is None:
        raise EnvironmentFailed(
            f"{folder} is not an environment that Rabbet made here, so it was not changed",
            because=["it holds no such environment, either"],
            remedy="rabbet envs",
        )
    _discard_environment(root, machine)
    return root


def kept_whole(machine: Machine, named: str) -> Path | None:
    """The folder of a project that has a name and no folder of the user's, or of what is kept of a script."""
    home = home_of(Path(os.path.realpath(path_named(named, machine.folder))), machine)
    if home.is_dir():  # the script itself may be gone
        return home
    return next((project.folder for project in named_projects(machine) if project.folder.name == named), None)


def _discard_whole(folder: Path, machine: Machine) -> Path:
    """Remove environments first, so that a run that is killed leaves none without its project."""
    for root in sorted(folder.glob(f"{ENVIRONMENT}*")):
        if machine.environments().owns(root):
            _discard_environment(root, machine)
    with machine.store.claimed(f"named {folder.name}"), cannot_write(folder):
        shutil.rmtree(folder)
    return folder


def _discard_environment(root: Path, machine: Machine) -> None:
    environments = machine.environments()
    with machine.store.claimed(str(root)):
        environments.forget(root)
        discard_environment(root, environments)


def _place(project: Project, machine: Machine) -> str:
    if project.script is not None:
        return str(project.script.file)
    return project.folder.name if project.folder == named_folder(project.folder.name, machine) else ""


def _look(root: Path, machine: Machine, *, check: bool) -> KnownEnvironment:
    project = project_around(root, machine)
    install_state = own_install_state(root, machine.environments())
    try:
        python: Version | None = read_configuration(root).python
        size = _size(root, machine, again=check)
    except (RabbetError, OSError):
        python, size = None, Size(0, 0)
    return KnownEnvironment(
        root=root,
        project=project.fallback_name,
        place=_place(project, machine),
        python=python,
        groups=None if install_state is None or install_state.groups is None else tuple(install_state.groups),
        extras=None if install_state is None or install_state.extras is None else tuple(install_state.extras),
        size=size,
        unfit=_unfit(project, machine) if check else _other_lock(root, project, install_state),
        checked=check,
        used=machine.environments().last_use(root),
        active=machine.environ.get(ACTIVE) == str(root),
    )


def _size(root: Path, machine: Machine, *, again: bool) -> Size:
    """What an environment takes up: as it was remembered when it was made, or counted `again`.

    Raises `OSError`.
    """
    memory, made = machine.memory("sizes"), (root / STATE_FILE).stat()
    key = sha256(f"{root}\n{made.st_ino} {made.st_mtime_ns}".encode(errors="surrogateescape")).hexdigest()
    known = None if again else memory.recall(key)
    if known is not None:
        own, _, shared = known.decode().partition(" ")
        return Size(int(own), int(shared))
    size = size_of(str(root))
    memory.remember(key, f"{size.own} {size.shared}".encode())
    return size


def _not_made(project: Project) -> KnownEnvironment:
    """A project that has a name, and no environment yet."""
    return KnownEnvironment(
        root=project.environment,
        project=project.fallback_name,
        place=project.folder.name,
        python=None,
        groups=None,
        extras=None,
        size=Size(0, 0),
        unfit="not made yet",
        checked=False,
        used=None,
        active=False,
    )


def _gone(project: Project) -> str | None:
    """What is gone of which an environment was made; `None` where it is there."""
    if project.script is not None and not project.script.file.is_file():
        return "its script is gone"
    return None if project.declaration_file.is_file() else "its project is gone"


def _other_lock(root: Path, project: Project, install_state: InstallState | None) -> str | None:
    """Why an environment was not made from its project's present lock, by its notes; `None` if it was."""
    gone = _gone(project)
    if gone:
        return gone
    if not project.lock_file.is_file():
        return "its lock is gone"
    if install_state is None:
        return "its notes are gone or can't be read"
    interpreter = interpreter_in(root)
    if not interpreter.exists():
        return f"its interpreter {interpreter.relative_to(root)} is gone"
    try:
        return None if install_state.lock == project.lock_stamp() else "from another lock"
    except NotUnderstood:
        return "its lock can't be read"


def _unfit(project: Project, machine: Machine) -> str | None:
    """Why it does not fit its lock, in few words; `None` if it does."""
    gone = _gone(project)
    if gone:
        return gone
    session = Session(project, machine)
    if recall_fit(session) is not None:
        return None
    from rabbet.core.model.options import RecreateOptions  # here: to list environments needs no plan
    from rabbet.tasks.recreating.recreate import prepare

    try:
        plan = prepare(session, RecreateOptions()).plan
    except RabbetError as error:
        return str(error)
    return None if plan.idle else _difference(plan)


def _difference(plan: "Plan") -> str:
    if plan.rebuild:
        return plan.rebuild
    changes = sum(step.action != "keep" for step in plan.steps)
    return f"{changes} to change"
