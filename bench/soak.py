"""Killing `recreate` at random moments: after each kill the next run has to leave a whole environment.

Run it by hand: `python -m bench.soak --kills 200`. It goes back and forth between two locks, in place,
anew and from nothing, with a store that is emptied now and then. It ends with the first environment that is
not whole.
"""

import argparse
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp

PROGRAM = [sys.executable, "-m", "rabbet"]


def main() -> None:
    """Kill, run again, check; so many times."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    dice = random.Random(arguments.seed)
    with tempfile.TemporaryDirectory(prefix="rabbet-soak-") as holder:
        project = prepare(Path(holder))
        variables = {"HOME": holder, "PATH": os.environ["PATH"], "XDG_CACHE_HOME": f"{holder}/store"}
        hits = 0
        for number in range(arguments.kills):
            shutil.copy(project / f"pylock.{number % 2}", project / "pylock.toml")
            if dice.random() < 0.3:
                shutil.rmtree(Path(holder) / "store", ignore_errors=True)
            if dice.random() < 0.3:
                shutil.rmtree(project / ".venv", ignore_errors=True)
            options = ["--fresh"] if dice.random() < 0.3 else []
            hits += killed([*PROGRAM, "recreate", *options], project, variables, dice.uniform(0.05, 1.2))
            for command in ("recreate", "drift"):
                done = subprocess.run(
                    [*PROGRAM, command],
                    cwd=project,
                    env=variables,
                    capture_output=True,
                    text=True,
                    check=False,
                )
                if done.returncode:
                    sys.exit(
                        f"not whole after kill {number} (seed {arguments.seed}):\n{done.stdout}{done.stderr}"
                    )
            left = [path.name for path in project.glob(".venv?*")]
            if left:
                sys.exit(f"left behind after kill {number}: {left}")
        print(f"{arguments.kills} runs, {hits} killed before their end; whole after the next run each time")


def killed(command: list[str], project: Path, variables: dict[str, str], delay: float) -> bool:
    """Start a command and kill it after a while; whether it was still running."""
    process = subprocess.Popen(
        command, cwd=project, env=variables, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    time.sleep(delay)
    process.send_signal(signal.SIGKILL)
    return process.wait() == -signal.SIGKILL


def prepare(holder: Path) -> Path:
    """A project with two locks of the same libraries, in other versions."""
    project = holder / "hivescale"
    project.mkdir()
    names = [f"comb{number}" for number in range(12)]
    code = tuple((f"cells/{number}.py", "x = 1\n" * 50) for number in range(30))
    for version in ("1.0", "2.0"):
        more = {name: tuple((f"{name}_{path}", text) for path, text in code) for name in names}
        write_files(
            holder / "wheels",
            [MadeUp(name=name, version=version, code="x = 1\n", more=more[name]) for name in names],
        )
    variables = {"HOME": str(holder), "PATH": os.environ["PATH"], "XDG_CACHE_HOME": str(holder / "store")}
    text = '[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = LIBRARIES\n'
    text += '[[tool.rabbet.sources]]\nname = "made-up"\nurl = "../wheels"\n'
    (project / "pyproject.toml").write_text(text.replace("LIBRARIES", str(names)))
    for number, options in enumerate((["--lowest"], ["--raise-all"])):
        subprocess.run(
            [*PROGRAM, "resolve", *options], cwd=project, env=variables, check=True, capture_output=True
        )
        shutil.copy(project / "pylock.toml", project / f"pylock.{number}")
    return project


if __name__ == "__main__":
    main()
