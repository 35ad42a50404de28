"""Where the example is played, and how a step of it is: each command is printed, then really run."""

import subprocess
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from textwrap import wrap
from typing import TextIO, TypeAlias

from msgspec import Struct

from rabbet.core.shell import quoted
from rabbet.errors import EnvironmentFailed
from rabbet.net.git.program import run_git
from rabbet.work.own_program import own_program

__all__ = ["Act", "Stage", "actor", "git", "prepare", "say", "show"]

_SOMEBODY = ("-c", "user.name=bee", "-c", "user.email=bee@apiary.example")

Act: TypeAlias = Callable[..., None]
"""Runs one command of Rabbet, given as its arguments, and checks the exit code: `expected`, mostly 0."""


class Stage(Struct, frozen=True, kw_only=True):
    """Where the example is played: the project's folder, the index's address, variables, the output."""

    project: Path
    address: str
    variables: Mapping[str, str]
    output: TextIO


def say(stage: Stage, text: str) -> None:
    """Print what comes next, as a comment."""
    lines = wrap(text, 77)
    print("\n" + "\n".join(f"# {line}" for line in lines), file=stage.output, flush=True)


def show(stage: Stage, text: str) -> None:
    """Print something that was written into a file."""
    shown = "".join(f"  {line}".rstrip() + "\n" for line in text.splitlines())
    print(f"\n{shown}", end="", file=stage.output, flush=True)


def actor(stage: Stage) -> Act:
    """The function that runs commands in a stage's project."""

    def act(*arguments: str, expected: int = 0) -> None:
        shown = " ".join(_shown(argument) for argument in arguments)
        print(f"\n$ rabbet {shown}", file=stage.output, flush=True)
        code = _run(arguments, stage)
        if code != expected:
            raise EnvironmentFailed(
                f"the example broke off: rabbet {arguments[0]} ended with {code} in place of {expected}"
            )

    return act


def prepare(stage: Stage, *arguments: str) -> None:
    """Run a command that is no step of the example: it says nothing."""
    command = own_program(*arguments)
    subprocess.run(command, cwd=stage.project, env=stage.variables, capture_output=True, check=True)


def git(stage: Stage, folder: Path, *arguments: str) -> None:
    """Run git for somebody made up. Raises `EnvironmentFailed`, `SourceFailed`."""
    done = run_git([*_SOMEBODY, *arguments], folder, stage.variables)
    if done.code != 0:
        said = done.err.decode(errors="replace").strip().splitlines()
        raise EnvironmentFailed(f"the example broke off: git {arguments[0]} failed", because=said[:2])


def _run(arguments: Sequence[str], stage: Stage) -> int:
    command = own_program(*arguments)
    done = subprocess.run(
        command, cwd=stage.project, env=stage.variables, stdin=subprocess.DEVNULL, check=False
    )
    return done.returncode


def _shown(argument: str) -> str:
    """As one would type it; a program of several lines is shown in short."""
    return quoted(argument) if "\n" not in argument else "'import pollencsv, nectarplot ...'"
