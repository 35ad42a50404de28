"""What became of the interpreter that an environment was made from."""

from pathlib import Path
from typing import NamedTuple

from rabbet.core.model.runtime import Refusal
from rabbet.environment.inspect import read_configuration
from rabbet.runtimes.probe import probe_all
from rabbet.tasks.machine import Machine

__all__ = ["InterpreterTrouble", "interpreter_trouble"]


class InterpreterTrouble(NamedTuple):
    """What became of an environment's interpreter since it was made, and whether it can still be run."""

    reason: str
    usable: bool


def interpreter_trouble(root: Path, machine: Machine) -> InterpreterTrouble | None:
    """Whether the interpreter that an environment was made from is gone or another one now.

    Raises `EnvironmentFailed` where there is no environment.
    """
    known = read_configuration(root).python
    link = root / "bin" / "python"
    if not link.exists():
        place = f" {link.readlink()}" if link.is_symlink() else ""
        return InterpreterTrouble(f"its interpreter{place} is gone", usable=False)
    found = probe_all([link.resolve()], machine.store().runtimes)[0]
    if isinstance(found, Refusal):
        return InterpreterTrouble(f"its interpreter {found.executable}: {found.reason}", usable=False)
    if found.version != known:
        reason = f"its interpreter {found.executable} was changed from {known} to {found.version}"
        return InterpreterTrouble(reason, usable=True)
    return None
