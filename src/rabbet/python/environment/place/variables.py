"""The variables that a command sees inside an environment, and which program they make it."""

import errno
import os
from collections.abc import Mapping
from pathlib import Path

from rabbet.errors import EnvironmentFailed
from rabbet.python.environment.place.layout import ELSEWHERE, VARIABLES_FILE

__all__ = ["ACTIVE", "program_on", "variables_inside"]

ACTIVE = "RABBET_ENVIRONMENT"  # tells a process inside which environment it is in


def variables_inside(root: Path, environ: Mapping[str, str]) -> dict[str, str]:
    """The variables that a command sees inside an environment, where those of the machine are `environ`.

    Its commands come first on `PATH`, then stand-ins for installers of other Pythons. Nothing leads its
    interpreter elsewhere. Raises `EnvironmentFailed` where its interpreter is gone, or its name can't stand
    in `PATH`.
    """
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
    variables = {key: value for key, value in environ.items() if key != "PYTHONHOME"}
    variables.update(_wanted_by_runtimes(root))
    variables[ACTIVE] = str(root)
    folders = [str(root / "bin"), str(root / ELSEWHERE), variables.get("PATH", os.defpath)]
    variables["PATH"] = os.pathsep.join(folders)
    return variables


def _wanted_by_runtimes(root: Path) -> dict[str, str]:
    """The variables that runtimes of other languages than Python want."""
    try:
        text = (root / VARIABLES_FILE).read_text(encoding="utf-8", errors="surrogateescape")
    except FileNotFoundError:
        return {}
    return {name: value for name, _, value in (line.partition("=") for line in text.splitlines())}


def program_on(path: str, program: str) -> str:
    """Where a program lies, by a text such as `PATH` has it. Raises `FileNotFoundError`."""
    if "/" in program:
        return program
    for folder in path.split(os.pathsep):
        place = os.path.join(folder, program)  # noqa: PTH118 - as light as can be
        if os.path.isfile(place) and os.access(place, os.X_OK):  # noqa: PTH113 - as above
            return place
    raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), program)
