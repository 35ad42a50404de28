"""All environments of this machine that Rabbet made, and discarding one.

A list has to be quick, so it reads the notes in each environment, which name the lock that it was made from.
Its files are read, and compared with the lock, only where that is asked for.
"""

from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from packaging.version import Version

from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
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
from rabbet.workspace.project import DECLARATION, ENVIRONMENT, Project
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.model.plan import Plan

__all__ = ["KnownEnvironment", "discard", "known_environments"]


class KnownEnvironment(Struct, frozen=True, kw_only=True):
    """One environment; `python` is `None` where it can't be told, `unfit` says why it does not fit its lock.

    `groups` and `extras` are those that were chosen, `None` for all. Its files were `checked`, or its notes
    alone. `used` is when it was last used or made (seconds since the epoch).
    """

    root: Path
    project: str
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
    """Every environment that was made here and is still there; to `check` them, their files are read."""
    observer.stage("looking at environments")
    found = []
    for root in machine.environments().known():
        observer.waiting(str(root))
        found.append(_look(root, machine, check=check))
    return tuple(found)


def discard(machine: Machine, named: str) -> Path:
    """Remove an environment: its folder, or the project that it belongs to, by its folder or its name.

    The store keeps what it holds. Raises `EnvironmentFailed` for a folder that Rabbet did not make and for a
    name that several have, `CannotWrite`.
    """
    folder, environments = path_named(named, machine.folder), machine.environments()
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
    with machine.store.claimed(str(root)):
        environments.forget(root)
        discard_environment(root, environments)
    return root


def _look(root: Path, machine: Machine, *, check: bool) -> KnownEnvironment:
    install_state = own_install_state(root, machine.environments())
    try:
        python: Version | None = read_configuration(root).python
        size = _size(root, machine, again=check)
    except (RabbetError, OSError):
        python, size = None, Size(0, 0)
    return KnownEnvironment(
        root=root,
        project=root.parent.name,
        python=python,
        groups=None if install_state is None or install_state.groups is None else tuple(install_state.groups),
        extras=None if install_state is None or install_state.extras is None else tuple(install_state.extras),
        size=size,
        unfit=_unfit(root, machine) if check else _other_lock(root, install_state),
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


def _other_lock(root: Path, install_state: InstallState | None) -> str | None:
    """Why an environment was not made from its project's present lock, by its notes; `None` if it was."""
    project = Project(root.parent, _variant(root))
    if not (root.parent / DECLARATION).is_file():
        return "its project is gone"
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


def _variant(root: Path) -> str | None:
    return root.name.removeprefix(ENVIRONMENT).removeprefix("-") or None


def _unfit(root: Path, machine: Machine) -> str | None:
    """Why it does not fit its lock, in few words; `None` if it does."""
    if not (root.parent / DECLARATION).is_file():
        return "its project is gone"
    session = Session(Project(root.parent, _variant(root)), machine)
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
