"""The lines by which a shell follows its user into projects."""

from importlib.resources import files

from rabbet.workspace.machine import Machine

__all__ = ["following"]

_FILES = {"bash": "bash", "zsh": "zsh", "fish": "fish", "powershell": "ps1"}


def following(machine: Machine, shell: str) -> str:
    """The lines for a shell; they name the folder where this user's environments are noted."""
    environments = machine.environments()
    environments.note_places()
    template = files("rabbet.environment").joinpath("shells", f"follow.{_FILES[shell]}")
    places = str(environments.places).replace("'", "'\\''" if shell in ("bash", "zsh") else "''")
    return template.read_text(encoding="utf-8").replace("@PLACES@", places)
