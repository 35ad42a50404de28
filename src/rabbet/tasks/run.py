"""Running a command inside the environment."""

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NoReturn

from rabbet.environment.layout import VARIABLES_FILE
from rabbet.errors import EnvironmentFailed
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project, not_made_here
from rabbet.workspace.result_cache import recall_fit, remember_fit

__all__ = ["ACTIVE", "become", "inside", "refuse_unfit", "under_runtimes"]

ACTIVE = "RABBET_ENVIRONMENT"  # tells a process inside which environment it is in


_SHOWN = 5  # of the steps that are due


def inside(project: Project, machine: Machine) -> dict[str, str]:
    """The variables that a command sees inside.

    The environment's commands come first on `PATH`, and nothing leads its interpreter elsewhere.
    Raises `EnvironmentFailed` when there is no environment, or its interpreter is gone.
    """
    root = _environment(project, machine)
    if os.pathsep in str(root):
        raise EnvironmentFailed(
            f"{root} can't be entered: its name holds a '{os.pathsep}', which parts the folders of PATH",
            because=["what stands behind it would count as a folder of its own"],
        )
    if not (root / "bin" / "python").exists():
        raise EnvironmentFailed(
            f"the environment in {root} has lost its interpreter",
            because=[f"{(root / 'bin' / 'python').resolve()} is not there any more"],
            remedy="rabbet recreate",
        )
    variables = {key: value for key, value in machine.environ.items() if key != "PYTHONHOME"}
    variables.update(_wanted_by_runtimes(root))
    variables[ACTIVE] = str(root)
    variables["PATH"] = os.pathsep.join([str(root / "bin"), variables.get("PATH", os.defpath)])
    return variables


def _wanted_by_runtimes(root: Path) -> dict[str, str]:
    """The variables that runtimes of other languages than Python want."""
    try:
        text = (root / VARIABLES_FILE).read_text(encoding="utf-8", errors="surrogateescape")
    except FileNotFoundError:
        return {}
    return {name: value for name, _, value in (line.partition("=") for line in text.splitlines())}


def under_runtimes(
    project: Project, machine: Machine, constraints: Sequence[str], variables: Mapping[str, str]
) -> dict[str, str]:
    """The variables of a command that gets other runtimes: their programs come first on `PATH`.

    Raises `NoRuntime`, `NotUnderstood`, `WrongUsage` for Python, `CannotWrite`.
    """
    from rabbet.runtimes.linking import link_folder
    from rabbet.workspace.runtimes.choice import runtime_under

    changed = dict(variables)
    for constraint in reversed(constraints):  # what is named first comes first on `PATH`
        linked = runtime_under(project, machine, constraint)
        changed.update(linked.variables)
        folder = link_folder(linked, machine.store_folder / "linked")
        changed["PATH"] = os.pathsep.join([str(folder), changed["PATH"]])
    return changed


def refuse_unfit(project: Project, machine: Machine, *, going_on: str) -> None:
    """Raise if the environment differs from the lock; `going_on` is the command that takes it as it is.

    Raises `EnvironmentFailed`, and what `prepare` raises.
    """
    root = _environment(project, machine)
    if recall_fit(project, machine) is not None:
        return
    from rabbet.core.model.plan import Action
    from rabbet.core.progress import Silent
    from rabbet.tasks.recreate import prepare
    from rabbet.workspace.selection import RecreateOptions

    report = prepare(project, machine, Silent(), RecreateOptions())
    plan = report.plan
    if plan.idle:
        remember_fit(project, machine, report.state, None if report.outdated else report.fit)
        return
    steps = [step for step in plan.steps if step.action is not Action.KEEP]
    because = [plan.rebuild] if plan.rebuild else [f"{step.action} {step.name}" for step in steps[:_SHOWN]]
    if not plan.rebuild and len(steps) > _SHOWN:
        because.append(f"and {len(steps) - _SHOWN} more")
    raise EnvironmentFailed(
        f"{root.name} does not fit the lock",
        because=because,
        remedy="rabbet recreate",
        or_else=[going_on],
    )


def _environment(project: Project, machine: Machine) -> Path:
    """The environment's folder. Raises `EnvironmentFailed` where there is none that was made here."""
    root = project.environment
    if not root.exists() and not root.is_symlink():
        raise EnvironmentFailed(f"there is no environment in {root}", remedy="rabbet recreate")
    if not machine.environments().owns(root):
        raise not_made_here(project)
    return root


def become(
    command: Sequence[str], variables: dict[str, str], *, project: Project, machine: Machine
) -> NoReturn:
    """Replace this process by the command, so that exit code and signals are its own.

    Returns only by raising `EnvironmentFailed`, when the command can't be started.
    """
    try:
        os.execvpe(command[0], list(command), variables)  # noqa: S606 - running commands is the job
    except OSError as error:
        raise EnvironmentFailed(
            f"'{command[0]}' can't be run",
            because=[error.strerror or str(error)],
            note=_bringing(project, machine)[0],
            remedy=_bringing(project, machine)[1],
        ) from error


def _bringing(project: Project, machine: Machine) -> tuple[str, str]:
    """Advice for a command that does not exist, as a sentence and as a command."""
    from rabbet.environment.install_state import own_install_state

    install_state = own_install_state(project.environment, machine.environments())
    if install_state is not None and (install_state.groups is not None or install_state.extras is not None):
        return (
            "the environment holds a part of the lock: what was not chosen may bring it",
            "rabbet recreate --everything",
        )
    return (
        "a library that brings it has to be declared; what the environment holds, explain tells",
        "rabbet explain",
    )
