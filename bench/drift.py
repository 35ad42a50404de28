"""Looking for drift, each figure beside its floor: environments of 10,000 files, and of a few large ones.

Run it by `make bench`. Whole commands, in turn with their floor; medians are printed. What both need to start
is taken off where it says so.
"""

import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from bench.in_turn import compared, line
from bench.recreate import PROGRAM, Project, libraries_of, noise_of, served

# Reads what each library says of itself and lists as its own: less tells nothing of what is installed.
WALK = """
import os, sys
site = sys.argv[1]
for entry in os.scandir(site):
    if entry.name.endswith(".dist-info"):
        for file in ("METADATA", "RECORD"):
            with open(f"{entry.path}/{file}", "rb") as opened:
                opened.read()
"""
HASH = "find .venv -type f -print0 | xargs -0 -P 2 -n 200 sha256sum"
ROUNDS = 7
SIZES = ((25, 200), (250, 20))  # libraries, and modules of each, which come compiled too


def main() -> None:
    """Print all figures."""
    print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
    with made(["comb"], 1) as tiny:
        for libraries, modules in SIZES:
            with made([f"comb{number}" for number in range(libraries)], modules) as project:
                print(f"{libraries} libraries, {libraries * modules * 2:,} files and more:")
                measure(project)
                measure_quick(project, tiny)
    names = [f"noise{number}" for number in range(5)]
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        served(partial(noise_of, names)) as at,
    ):
        project = Project(Path(holder), at, names)
        project.rabbet("recreate")
        print("5 libraries of 100 MB:")
        measure(project)


@contextmanager
def made(names: Sequence[str], modules: int) -> Iterator[Project]:
    """A project whose environment is as locked."""
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        served(partial(libraries_of, names, modules)) as address,
    ):
        project = Project(Path(holder), address, names)
        project.rabbet("recreate")
        yield project


def measure(project: Project) -> None:
    """Print the figures of the shortest look and of the longest."""
    run = partial(silently, project)
    run(PROGRAM, "drift")
    nothing = [sys.executable, "-c", "import argparse"]
    times = compared(lambda: run(PROGRAM, "drift", "--silent"), lambda: run(*nothing))
    line("drift --silent, all fits | import argparse", *times, "<= 2")
    times = compared(lambda: run(PROGRAM, "drift", "--deep"), lambda: run("bash", "-c", HASH), rounds=ROUNDS)
    line("drift --deep | sha256sum on both cores", *times, "<= 1.2")


def measure_quick(project: Project, tiny: Project) -> None:
    """Print the figure of the usual look: what it takes beyond that at an environment of one library."""
    site = str(next(project.environment.glob("lib/*/site-packages")))
    drift, start, walk, python = compared(
        lambda: silently(project, PROGRAM, "drift"),
        lambda: silently(tiny, PROGRAM, "drift"),
        lambda: silently(project, sys.executable, "-c", WALK, site),
        lambda: silently(project, sys.executable, "-c", "pass"),
    )
    line("drift | metadata read, both beyond their start", drift - start, walk - python, "<= 2")


def silently(project: Project, *command: str) -> None:
    """Run a command to its end, without what it says of its progress."""
    subprocess.run(
        command,
        cwd=project.folder,
        env=project.variables,
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


if __name__ == "__main__":
    main()
