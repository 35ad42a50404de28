"""A shell inside an environment, and what lets a shell follow its user into one."""

import os
from importlib.resources import files
from pathlib import Path, PurePath

from rabbet.errors import EnvironmentFailed, WrongUsage
from rabbet.python.environment.place.layout import commands_in
from rabbet.python.environment.place.variables import ACTIVE, variables_inside
from rabbet.tasks.recreating.run import inside
from rabbet.workspace.machine import Machine
from rabbet.workspace.session import Session

__all__ = ["following", "shell_inside"]


def shell_inside(session: Session, trial: Path | None = None) -> tuple[list[str], dict[str, str]]:
    """The command that starts the user's shell in the project's environment or a trial's, and its variables.

    bash, zsh and fish read the user's own settings, then the environment's file, which shows the project's
    name in the prompt. Any other shell just gets the variables.
    Raises `WrongUsage` inside another environment, `EnvironmentFailed` without a whole one.
    """
    active = session.machine.environ.get(ACTIVE)
    if active:
        raise WrongUsage(
            f"this shell is inside {active} already",
            note="if you sourced its file, it is `leave`",
            remedy="exit",
        )
    variables = variables_inside(trial, session.machine.environ) if trial else inside(session)
    files = commands_in(trial or session.project.environment)
    if not (files / "enter.sh").is_file():
        raise EnvironmentFailed(
            f"{session.project.environment} was made by an older Rabbet", remedy="rabbet recreate --fresh"
        )
    shell = session.machine.environ.get("SHELL") or "/bin/sh"
    kind = PurePath(shell).name
    if kind not in ("bash", "zsh", "fish"):
        return [shell, "-i"], variables
    own = {key: value for key, value in session.machine.environ.items() if key != ACTIVE}
    if kind == "bash":
        return [shell, "--rcfile", str(files / "enter.bashrc"), "-i"], own
    if kind == "fish":
        return [shell, "-i", "-C", f"source {_quoted(str(files / 'enter.fish'))}"], own
    own["RABBET_ZDOTDIR"] = session.machine.environ.get("ZDOTDIR", os.fspath(session.machine.home))
    own["ZDOTDIR"] = str(files / "enter.zsh")
    return [shell, "-i"], own


def _quoted(text: str) -> str:
    """As fish reads it between single quotes."""
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


_FILES = {"bash": "bash", "zsh": "zsh", "fish": "fish", "powershell": "ps1"}


def following(machine: Machine, shell: str) -> str:
    """The lines for a shell; they name the folder where this user's environments are noted."""
    environments = machine.environments()
    environments.note_places()
    template = files("rabbet.python.environment").joinpath("shells", f"follow.{_FILES[shell]}")
    places = str(environments.places).replace("'", "'\\''" if shell in ("bash", "zsh") else "''")
    return template.read_text(encoding="utf-8").replace("@PLACES@", places)
