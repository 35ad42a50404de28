"""The one place that starts Rabbet in another process."""

import subprocess
import sys
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

__all__ = ["own_program", "start_in_background"]


def own_program(*arguments: str) -> list[str]:
    """The command that runs this Rabbet, by this interpreter and from the same folders, wherever it starts.

    No module of the folder where it runs, or that a variable names, takes the place of one that it needs.
    """
    start = f"import sys; sys.path[:] = {sys.path!r}; from rabbet.__main__ import program; program()"
    return [sys.executable, "-I", "-c", start, *arguments]


def start_in_background(command: list[str], folder: Path, environ: Mapping[str, str]) -> None:
    """Start a command that outlives this process, without a terminal; nobody waits for it."""
    with suppress(OSError):
        subprocess.Popen(
            command,
            cwd=folder,
            env=dict(environ),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
