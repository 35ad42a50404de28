"""Two environments that differ by a culprit alone, and a script that shows what that does."""

from collections.abc import Mapping
from pathlib import Path

from rabbet.core.culprit.mixture import Mixture
from rabbet.core.culprit.search import Culprit
from rabbet.core.shell import joined_words, quoted
from rabbet.disk.atomic import cannot_write
from rabbet.disk.guarded import GuardedFolder
from rabbet.proving.combination import compose_combination
from rabbet.proving.runner import TestedCommand
from rabbet.proving.two_states import TwoStates
from rabbet.python.environment.place.layout import commands_in
from rabbet.python.environment.place.variables import ACTIVE, variables_inside
from rabbet.workspace.session import Session

__all__ = ["SCRIPT", "keep_evidence", "show_script"]

SCRIPT = "show.sh"


def keep_evidence(
    two: TwoStates, culprit: Culprit, command: TestedCommand, folder: Path, session: Session
) -> None:
    """Make both environments in a folder, and the script. Raises as `compose` does."""
    mixtures: dict[str, Mixture] = {"passing": culprit.passing, "failing": culprit.failing}
    with cannot_write(folder), GuardedFolder.at(folder, below=session.project.folder) as opened:
        for name in mixtures:
            opened.make_folder(name)
    roots = {name: folder.resolve() / name for name in mixtures}
    for name, mixture in mixtures.items():
        compose_combination(two.combination(mixture), roots[name], session)
    with cannot_write(folder), GuardedFolder.at(folder, below=session.project.folder) as opened:
        opened.write(SCRIPT, show_script(roots, command).encode(), mode=0o755)


def show_script(roots: Mapping[str, Path], command: TestedCommand) -> str:
    """The text of a script that runs a command in each of these environments."""
    lines = ["#!/bin/sh", f"# Runs the same command in both environments: {', '.join(roots)}."]
    lines.append(f"cd {quoted(str(command.folder))} || exit")
    for name, root in roots.items():
        lines += _shown(name, root, command)
    return "\n".join([*lines, ""])


def _shown(name: str, root: Path, command: TestedCommand) -> list[str]:
    """The lines that run the command in one environment; the second outcome is the script's own."""
    inside = variables_inside(root, {})
    variables = {key: value for key, value in inside.items() if key not in ("PATH", ACTIVE)}
    exported = [f"{key}={quoted(value)}" for key, value in sorted(variables.items())]
    words = joined_words(command.words)
    return [
        f"echo {quoted(f'--- {name}: {words}')}",
        " ".join(["env", *exported, f'PATH={quoted(str(commands_in(root)))}:"$PATH"', words]),
        f'echo "--- {name}: exit code $?"',
    ]
