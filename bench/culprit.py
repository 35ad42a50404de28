"""A search among 100 changes: each environment that it tries beside one made by `cp`.

Run it by `make bench`. Whole commands, in turn; medians are printed. The floor is what nobody can do without:
for each environment that is tried, links to all its files, the command in it, and the removal.
"""

import json
import shutil
import subprocess
import tempfile
from functools import partial
from pathlib import Path

from bench.in_turn import compared
from bench.recreate import PROGRAM, Project, libraries_of, served

LIBRARIES, MODULES = 150, 20  # every module comes compiled too
CHANGED = 100  # of the libraries are not there in the good state
ROUNDS = 5


def main() -> None:
    """Measure."""
    names = [f"made{number}" for number in range(LIBRARIES)]
    guilty = names[CHANGED // 2]
    code = f"import sys, importlib.util as u; sys.exit(u.find_spec('{guilty}') is not None)"
    with (
        tempfile.TemporaryDirectory() as folder,
        served(partial(libraries_of, names, MODULES)) as address,
    ):
        good = Project(Path(folder) / "good", address, names[CHANGED:]).folder / "pylock.toml"
        project = Project(Path(folder) / "bad", address, names)
        shutil.copy(good, project.folder / "good.toml")
        project.rabbet("recreate")
        search = [PROGRAM, "culprit", "--good", "good.toml", "--quiet", "--json", "--", "python", "-c", code]
        told = subprocess.run(
            search, cwd=project.folder, env=project.variables, capture_output=True, check=True
        )
        runs = sum(len(step["ends"]) for step in json.loads(told.stdout)["steps"])
        for jobs in ("1", "2"):
            with_jobs = [*search[:2], "--jobs", jobs, *search[2:]]
            by_hand, searched = compared(
                lambda: make_by_hand(project, code, runs),
                lambda: project.run(*with_jobs),  # noqa: B023 - run at once
                rounds=ROUNDS,
            )
            print(
                f"--jobs {jobs}, {CHANGED} changes, {runs} runs: {searched:.1f} s, by hand {by_hand:.1f} s, "
                f"ratio {searched / by_hand:.2f}; {searched / runs * 1000:.0f} ms a run"
            )


def make_by_hand(project: Project, code: str, times: int) -> None:
    """So many environments, one after the other."""
    for _ in range(times):
        subprocess.run(["cp", "-al", str(project.environment), str(project.copy)], check=True)
        subprocess.run([str(project.copy / "bin" / "python"), "-c", code], check=False)
        shutil.rmtree(project.copy)


if __name__ == "__main__":
    main()
