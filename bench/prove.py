"""What a proof costs beside the command's own runs, and what several jobs gain.

Run it by `make bench`. Whole commands, in turn; medians are printed. The floor is the same number of runs of
the same command in one environment that is there already.
"""

import json
import subprocess
import tempfile
from functools import partial
from pathlib import Path

from msgspec.structs import replace

from bench.in_turn import compared
from bench.recreate import PROGRAM, Project, library, served
from rabbet.demo.libraries import MadeUp

LIBRARIES, MODULES = 20, 20  # every module comes compiled too
SECONDS = 1.0  # that the command takes
ROUNDS = 3
CODE = "import sys, time, made7; time.sleep({}); sys.exit(made7.__version__ == '2.0')"


def releases() -> list[MadeUp]:
    """Two releases of each library."""
    first = [library(f"made{number}", MODULES) for number in range(LIBRARIES)]
    return [*first, *(replace(made, version="2.0") for made in first)]


def main() -> None:
    """Measure."""
    names = [f"made{number}" for number in range(LIBRARIES)]
    with tempfile.TemporaryDirectory() as folder, served(releases) as address:
        project = Project(Path(folder), address, [f"{name}<2" for name in names])
        project.rabbet("recreate")
        project.rabbet("declare", "--exactly", *names)
        project.rabbet("resolve")
        for jobs in (1, 2):
            measure(project, ["--newest"], jobs)
            measure(project, ["--bounds", "--only", *names[4:10]], jobs)


def measure(project: Project, kind: list[str], jobs: int) -> None:
    """One kind of proof, with so many jobs."""
    words = ["python", "-c", CODE.format(SECONDS)]
    options = ["--fresh", "--quiet", "--json", "--jobs", str(jobs)]
    command = [PROGRAM, "prove", *kind, *options, "--", *words]
    told = subprocess.run(
        command, cwd=project.folder, env=project.variables, capture_output=True, check=False
    )
    document = json.loads(told.stdout)
    runs = document["runs"]
    floor, proven = compared(
        partial(run_alone, project, words, runs),
        partial(run_unchecked, project, command),
        rounds=ROUNDS,
    )
    print(
        f"prove {kind[0]}, --jobs {jobs}: {document['environments']} environments, {runs} runs: "
        f"{proven:.1f} s, the runs alone {floor:.1f} s; "
        f"{(proven - floor / jobs) / runs * 1000:.0f} ms a run beside them"
    )


def run_alone(project: Project, words: list[str], times: int) -> None:
    """The command so often in the project's own environment."""
    for _ in range(times):
        subprocess.run([project.environment / "bin" / words[0], *words[1:]], check=False)


def run_unchecked(project: Project, command: list[str]) -> None:
    """A proof, whatever it comes to."""
    subprocess.run(command, cwd=project.folder, env=project.variables, capture_output=True, check=False)


if __name__ == "__main__":
    main()
