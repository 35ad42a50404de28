"""How long the program takes to start, against the floor: an interpreter that only imports argparse.

Run it by `make bench`. Each command is run in turn with its floor, so that a machine whose speed drifts does
not favour one of them; medians are printed with the ratio of each to the floor. `status`, and what a shell
asks for when it completes a word, are run in a project of 30 libraries whose environment fits.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from bench.recreate import PROGRAM, Project, libraries_of, served

ROUNDS = 25
LIBRARIES, MODULES = 30, 20
COMMANDS = {
    "python -c 'import argparse'": [sys.executable, "-c", "import argparse"],
    "rabbet --version": [PROGRAM, "--version"],
    "rabbet --help": [PROGRAM, "--help"],
    "rabbet resolve --help": [PROGRAM, "resolve", "--help"],
    "rabbet status": [PROGRAM, "status"],
}
COMPLETED = ("rabbet re", "rabbet explain made", "rabbet declare made1==")


def main() -> None:
    """Time all commands in turn and print medians and ratios."""
    names = [f"made{number}" for number in range(LIBRARIES)]
    with tempfile.TemporaryDirectory() as folder, served(partial(libraries_of, names, MODULES)) as address:
        project = Project(Path(folder), address, names)
        project.rabbet("recreate")
        runs = {name: (command, project.variables) for name, command in COMMANDS.items()}
        for line in COMPLETED:
            asked = {
                "_ARGCOMPLETE": "1",
                "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull,
                "COMP_LINE": line,
                "COMP_POINT": str(len(line)),
            }
            runs[f"completing '{line}'"] = ([PROGRAM], {**project.variables, **asked})
        taken: dict[str, list[float]] = {name: [] for name in runs}
        for turn in range(ROUNDS + 1):
            for name, (command, variables) in runs.items():
                begun = time.perf_counter()
                subprocess.run(
                    command, cwd=project.folder, env=variables, check=True, stdout=subprocess.DEVNULL
                )
                if turn:  # the first round warms up
                    taken[name].append(time.perf_counter() - begun)
    floor = statistics.median(next(iter(taken.values())))
    print(f"{'command':<36} {'median ms':>9} {'of floor':>8}")
    for name, times in taken.items():
        median = statistics.median(times)
        print(f"{name:<36} {median * 1000:>9.1f} {median / floor:>8.2f}")


if __name__ == "__main__":
    main()
