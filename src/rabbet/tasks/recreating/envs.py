"""All environments of this machine that Rabbet made, and discarding one."""

from pathlib import Path

from msgspec import Struct
from packaging.version import Version

from rabbet.core.model.options import RecreateOptions
from rabbet.core.model.plan import Plan
from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
from rabbet.disk.file_states import Size, size_of
from rabbet.disk.named import path_named
from rabbet.errors import EnvironmentFailed, RabbetError
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.python.environment.place.staging import discard_environment
from rabbet.python.environment.place.variables import ACTIVE
from rabbet.tasks.recreating.recreate import prepare
from rabbet.workspace.looking.result_cache import recall_fit
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import DECLARATION, ENVIRONMENT, Project
from rabbet.workspace.session import Session

__all__ = ["KnownEnvironment", "discard", "known_environments"]


class KnownEnvironment(Struct, frozen=True, kw_only=True):
    """One environment; `python` is `None` where it can't be told, `unfit` says why it does not fit its lock.

    `groups` and `extras` are those that were chosen, `None` for all.
    """

    root: Path
    project: str
    python: Version | None
    groups: tuple[str, ...] | None
    extras: tuple[str, ...] | None
    size: Size
    unfit: str | None
    active: bool


def known_environments(machine: Machine, observer: Observer) -> tuple[KnownEnvironment, ...]:
    """Every environment that was made from this store and is still there."""
    observer.stage("looking at environments")
    found = []
    for root in machine.environments().known():
        observer.waiting(str(root))
        found.append(_look(root, machine))
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


def _look(root: Path, machine: Machine) -> KnownEnvironment:
    install_state = own_install_state(root, machine.environments())
    try:
        python: Version | None = read_configuration(root).python
        size = size_of(str(root))
    except (RabbetError, OSError):
        python, size = None, Size(0, 0)
    return KnownEnvironment(
        root=root,
        project=root.parent.name,
        python=python,
        groups=None if install_state is None or install_state.groups is None else tuple(install_state.groups),
        extras=None if install_state is None or install_state.extras is None else tuple(install_state.extras),
        size=size,
        unfit=_unfit(root, machine),
        active=machine.environ.get(ACTIVE) == str(root),
    )


def _unfit(root: Path, machine: Machine) -> str | None:
    """Why it does not fit its lock, in few words; `None` if it does."""
    if not (root.parent / DECLARATION).is_file():
        return "its project is gone"
    variant = root.name.removeprefix(ENVIRONMENT).removeprefix("-") or None
    session = Session(Project(root.parent, variant), machine)
    if recall_fit(session) is not None:
        return None
    try:
        plan = prepare(session, RecreateOptions()).plan
    except RabbetError as error:
        return str(error)
    return None if plan.idle else _difference(plan)


def _difference(plan: Plan) -> str:
    if plan.rebuild:
        return plan.rebuild
    changes = sum(step.action != "keep" for step in plan.steps)
    return f"{changes} to change"
