"""A trial of one small library on an environment of 100: each way to make it beside `python -c pass`.

Run it by `make bench`. Whole commands, in turn; medians are printed. The command that is run in each is
`python -c pass`, so what a way costs beyond the command is its figure less that of the floor.
"""

import subprocess
import tempfile
from functools import partial
from pathlib import Path

from bench.in_turn import compared, put_aside
from bench.recreate import PROGRAM, Project, libraries_of, served

LIBRARIES, MODULES = 100, 50  # of the environment; every module comes compiled too


def main() -> None:
    """Measure."""
    names = [f"made{number}" for number in range(LIBRARIES)]
    made = partial(libraries_of, [*names, "onemore"], MODULES)
    with tempfile.TemporaryDirectory() as folder, served(made) as address:
        project = Project(Path(folder), address, names)
        project.rabbet("recreate")
        python = str(project.environment / "bin" / "python")
        aside = Path(folder) / "aside"

        def hand_made(copy: str) -> None:
            """The environment as a whole, then the command in it."""
            subprocess.run(["cp", copy, str(project.environment), str(project.copy)], check=True)
            project.run(str(project.copy / "bin" / "python"), "-c", "pass")

        def floor() -> None:
            project.run(python, "-c", "pass")

        rabbet = {
            "the command alone (the floor)": floor,
            "run, without a trial": lambda: project.run(PROGRAM, "run", "python", "-c", "pass"),
            "run --try, warm": lambda: project.run(
                PROGRAM, "run", "--try", "onemore", "--", "python", "-c", "pass"
            ),
        }
        by_hand = {  # apart: a link to a file changes the state of the environment that it lies in
            "the command alone (the floor)": floor,
            "a copy of hard links, and the command": lambda: hand_made("-al"),
            "a copy, and the command": lambda: hand_made("-a"),
        }
        print(f"{'way':<42} {'ms':>6} {'beyond the command, in floors':>30}")
        for ways in (rabbet, by_hand):
            medians = compared(*ways.values(), before=lambda: put_aside(project.copy, aside))
            for way, median in zip(ways, medians, strict=True):
                beyond = (median - medians[0]) / medians[0]
                print(f"{way:<42} {median * 1000:>6.0f} {beyond:>30.1f}")


if __name__ == "__main__":
    main()
