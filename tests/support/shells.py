"""Walks of real shells through folders, read as if each line was typed."""

import shutil
import subprocess
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from rabbet.core.shell import quoted
from tests.support import PATIENCE

SHELLS = {
    name: command
    for name, command in {
        "bash": ["bash", "--noprofile", "--norc"],
        "zsh": ["zsh", "-f"],
        "fish": ["fish", "--no-config"],
    }.items()
    if shutil.which(name)  # bash at least is everywhere
}
# What a shell does before its prompt; bash has to be told in a script.
HOOKS = {"bash": "_rabbet_follow"}


def typed(shell: str, lines: Sequence[str], variables: Mapping[str, str]) -> subprocess.CompletedProcess[str]:
    """What a shell says to lines that are typed in `/`."""
    return subprocess.run(
        SHELLS[shell],
        input="\n".join([*lines, ""]),
        cwd="/",
        env={**variables, "TERM": "dumb"},
        capture_output=True,
        text=True,
        errors="replace",
        check=False,
        timeout=PATIENCE,
    )


def paths_on_the_way(
    shell: str, follow: Path, places: Iterable[Path], variables: Mapping[str, str]
) -> list[list[str]]:
    """The folders of `PATH` in each place, followed and, where it has an environment, entered there."""
    hook = HOOKS.get(shell, "true")
    enter = "source ./.venv/bin/enter." + ("fish" if shell == "fish" else "sh")
    show = 'echo "PATH=$PATH"' if shell != "fish" else "echo PATH=(string join : $PATH)"
    lines, wanted = [f"source {quoted(str(follow))}"], 0
    for place in places:
        lines += [f"cd {quoted(str(place))}; {hook}", show]
        wanted += 1
        if (place / ".venv" / "bin").is_dir():
            lines += ["cd /; " + hook, f"cd {quoted(str(place))}; {enter}", show, "leave 2>/dev/null; true"]
            wanted += 1
    done = typed(shell, lines, variables)
    shown = [line for line in done.stdout.splitlines() if line.startswith("PATH=")]
    assert len(shown) == wanted, done.stderr
    return [line.removeprefix("PATH=").split(":") for line in shown]
