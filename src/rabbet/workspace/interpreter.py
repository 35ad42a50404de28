"""Check whether an environment's interpreter is gone or was replaced, without running it."""

import os
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.environment.inspect import read_configuration

__all__ = ["InterpreterTrouble", "interpreter_trouble"]


class InterpreterTrouble(NamedTuple):
    """What became of an environment's interpreter since it was made, and whether it can still be run."""

    reason: str
    usable: bool


def interpreter_trouble(root: Path, found: Sequence[PythonRuntime | Refusal]) -> InterpreterTrouble | None:
    """Whether the interpreter that an environment was made from is gone, or another one now.

    `found` are this machine's interpreters and what they tell of themselves: an environment's own link is
    only followed to see which of them it leads to. Raises `EnvironmentFailed` where there is no environment.
    """
    known = read_configuration(root).python
    link = root / "bin" / "python"
    if not link.exists():
        place = f" {link.readlink()}" if link.is_symlink() else ""
        return InterpreterTrouble(f"its interpreter{place} is gone", usable=False)
    real = os.path.realpath(link)
    one = next((one for one in found if one.executable == real), None)
    if one is None or not link.is_symlink():
        reason = f"its interpreter {real} is none that this machine's search finds"
        return InterpreterTrouble(reason, usable=True)
    if isinstance(one, Refusal):
        return InterpreterTrouble(f"its interpreter {one.executable}: {one.reason}", usable=False)
    if one.version != known:
        reason = f"its interpreter {one.executable} was changed from {known} to {one.version}"
        return InterpreterTrouble(reason, usable=True)
    return None
