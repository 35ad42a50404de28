"""Running a command inside the environment."""

import os
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, NoReturn

from rabbet.core.near_names import near_names
from rabbet.core.shell import joined_words
from rabbet.errors import BuildFailed, EnvironmentFailed, WrongUsage
from rabbet.python.environment.place.variables import program_on, variables_inside
from rabbet.work import foreground
from rabbet.workspace.looking.result_cache import (
    inputs_of,
    may_have_rules,
    recall_fit,
    recall_unbuilt,
    remember_fit,
    remember_unbuilt,
)
from rabbet.workspace.project import not_made_here
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.core.model.plan import Step

__all__ = [
    "Rebuilt",
    "become",
    "foreign_script",
    "inside",
    "refuse_broken_rules",
    "refuse_script",
    "refuse_unfit",
    "run_to_end",
    "under_runtimes",
]

_LONGEST_FIRST_LINE = 4096  # bytes of a script that are looked at
_SHOWN = 5  # of the steps that are due


def inside(session: Session) -> dict[str, str]:
    """The variables that a command sees inside the project's environment.

    Raises `EnvironmentFailed` when there is no environment, or its interpreter is gone.
    """
    root = _environment(session)
    variables = variables_inside(root, session.machine.environ)
    session.machine.environments().note_use(root)
    return variables


def under_runtimes(
    session: Session, constraints: Sequence[str], variables: Mapping[str, str]
) -> dict[str, str]:
    """The variables of a command that gets other runtimes: their programs come first on `PATH`.

    Raises `NoRuntime`, `NotUnderstood`, `WrongUsage` for Python, `CannotWrite`.
    """
    from rabbet.runtimes.linking import link_folder
    from rabbet.workspace.runtimes.choice import runtime_under

    changed = dict(variables)
    for constraint in reversed(constraints):  # what is named first comes first on `PATH`
        linked = runtime_under(session, constraint)
        changed.update(linked.variables)
        folder = link_folder(linked, session.machine.store_folder / "linked")
        changed["PATH"] = os.pathsep.join([str(folder), changed["PATH"]])
    return changed


def foreign_script(session: Session, program: str, variables: Mapping[str, str]) -> str:
    """A sentence on a script outside of the environment that another Python would run; else empty."""
    try:
        place = program_on(variables["PATH"], program)
        with open(place, "rb") as file:  # noqa: PTH123 - as light as can be
            first = file.read(_LONGEST_FIRST_LINE).partition(b"\n")[0]
    except OSError:
        return ""
    inside = place.startswith(f"{session.project.environment}{os.sep}")
    if inside or not first.startswith(b"#!") or b"python" not in first:
        return ""
    interpreter = first[2:].decode(errors="replace").split()
    if interpreter[:1] == ["/usr/bin/env"]:  # it asks for whichever comes first: the environment's
        return ""
    return f"{place} runs under {interpreter[0]}, not in the environment: it sees none of its libraries."


def refuse_script(session: Session, command: Sequence[str]) -> None:
    """Raise `WrongUsage` for a file of Python by its name alone, which an interpreter has to run."""
    program = command[0]
    if program.endswith(".py") and "/" not in program and (session.machine.folder / program).is_file():
        raise WrongUsage(
            f"'{program}' is a file of Python, and no command",
            remedy=joined_words(["rabbet", "run", "python", *command]),
        )


def refuse_broken_rules(session: Session) -> None:
    """Raise `RuleRefused` where the lock breaks a rule and the rules say that nothing is run then."""
    with suppress(OSError):
        if may_have_rules(session):
            from rabbet.workspace.rules.stopping import refuse_broken  # here: many projects have no rules

            refuse_broken(session, "run")


class Rebuilt(NamedTuple):
    """Editable forms that were built again, by their names; or why one could not be, and stayed as it was."""

    names: tuple[str, ...] = ()
    failed: str = ""


def refuse_unfit(session: Session, *, going_on: str) -> Rebuilt:
    """Raise if the environment differs from the lock; `going_on` is the command that takes it as it is.

    What the project's own editable form, or that of a checkout, lacks is done in passing, for to edit is not
    to drift; nor does a build that fails keep anybody from running what is installed. Raises
    `EnvironmentFailed`, and what `prepare` and `recreate` raise.
    """
    root = _environment(session)
    if recall_fit(session) is not None:
        return Rebuilt()
    failed = recall_unbuilt(session)
    if failed:
        return Rebuilt(failed=failed)
    from rabbet.core.model.options import RecreateOptions  # here: mostly the environment is known to fit
    from rabbet.core.model.plan import Action
    from rabbet.tasks.recreating.recreate import prepare

    inputs = inputs_of(session)
    report = prepare(session.silent(), RecreateOptions())
    plan = report.plan
    if plan.idle:
        remember_fit(session, inputs, report.state, report.lasting_fit)
        return Rebuilt()
    steps = [step for step in plan.steps if step.action is not Action.KEEP]
    if not plan.rebuild and not plan.strays and all(_edited(step) for step in steps):
        from rabbet.tasks.recreating.recreate import recreate

        try:
            recreate(session.silent(), RecreateOptions())
        except BuildFailed as error:
            remember_unbuilt(session, inputs, str(error))
            return Rebuilt(failed=str(error))
        return Rebuilt(tuple(str(step.name) for step in steps))
    differing = [f"{step.action} {step.name}" for step in steps]
    differing += [f"remove the untracked {place}" for place in plan.strays]
    because = [plan.rebuild] if plan.rebuild else differing[:_SHOWN]
    if not plan.rebuild and len(differing) > _SHOWN:
        because.append(f"and {len(differing) - _SHOWN} more")
    raise EnvironmentFailed(
        f"{root.name} does not fit the lock",
        because=because,
        remedy="rabbet resolve --now" if report.outdated else "rabbet recreate",
        or_else=[going_on],
    )


def _edited(step: "Step") -> bool:
    """Whether nothing is due but to build an editable form again, whose sources were edited."""
    from rabbet.core.model.lock import LockedCheckout, Unbuilt
    from rabbet.core.model.plan import Action

    source = step.needed.source if isinstance(step.needed, Unbuilt) else None
    editable = isinstance(source, LockedCheckout) and source.editable
    return editable and step.action is Action.REPLACE and bool(step.installed)


def _environment(session: Session) -> Path:
    """The environment's folder. Raises `EnvironmentFailed` unless it was made here, `WrongUsage`."""
    root = session.project.environment
    if not root.exists() and not root.is_symlink():
        session.refuse_unknown_variant()
        raise EnvironmentFailed(f"there is no environment in {root}", remedy="rabbet recreate")
    if not session.machine.environments().owns(root):
        raise not_made_here(session.project)
    return root


def become(session: Session, command: Sequence[str], variables: dict[str, str]) -> NoReturn:
    """Replace this process by the command, so that exit code and signals are its own.

    Returns only by raising `EnvironmentFailed`, when the command can't be started.
    """
    session.machine.close()  # nothing of this process comes to its end
    try:
        foreground.become(command, variables)
    except OSError as error:
        raise _not_started(command, error, session) from error


def run_to_end(session: Session, command: Sequence[str], variables: dict[str, str]) -> int:
    """Run a command and wait for it; its exit code, or 128 and the number of the signal that ended it.

    Raises `EnvironmentFailed` when it can't be started.
    """
    try:
        return foreground.run_to_end(program_on(variables["PATH"], command[0]), command, variables)
    except OSError as error:
        raise _not_started(command, error, session) from error


def _not_started(command: Sequence[str], error: OSError, session: Session) -> EnvironmentFailed:
    program = command[0]
    message, because = f"'{program}' can't be run", [error.strerror or str(error)]
    near = near_names(program, _commands_in(session.project.environment))
    if near:
        because = [*because, f"near names: {', '.join(near)}"]
        return EnvironmentFailed(message, because=because, meant=(program, near[0]))
    note, remedy = _bringing(session)
    return EnvironmentFailed(message, because=because, note=note, remedy=remedy)


def _commands_in(root: Path) -> list[str]:
    """The names of the commands in an environment."""
    folder = root / "bin"
    return [path.name for path in folder.iterdir()] if folder.is_dir() else []


def _bringing(session: Session) -> tuple[str, str]:
    """Advice for a command that does not exist, as a sentence and as a command."""
    from rabbet.python.environment.place.install_state import own_install_state

    install_state = own_install_state(session.project.environment, session.machine.environments())
    if install_state is not None and (install_state.groups is not None or install_state.extras is not None):
        return (
            "the environment leaves out some groups or extras, which may provide this command",
            "rabbet recreate --everything",
        )
    return (
        "declare a library that provides this command; `rabbet explain` lists what is locked",
        "rabbet explain",
    )
