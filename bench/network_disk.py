"""A project and a store on a disk over a network, simulated: a millisecond for each call that names a file.

Run it by `make bench`. It needs `strace`, which counts the calls and delays them, those of Python's own start
and imports too, although these would mostly lie on a disk at hand: the time of `--version` shows these.
"""

import re
import shutil
import sys
import tempfile
import time
from functools import partial
from pathlib import Path

from bench.recreate import PROGRAM, Project, libraries_of, served

SIZES = {"30 libraries, 300 files": (30, 4), "25 libraries, 10,000 files": (25, 200)}
COMMANDS = (["--version"], ["run", "true"], ["recreate"], ["drift"], ["resolve"], ["status"])
CALLS = "newfstatat,openat,getdents64,readlink,unlink,rename,linkat,mkdirat"
DELAY = 1000  # microseconds
HERE = re.compile(r'AT_FDCWD<[^>]*>, (?="/)')  # does not count where the file's whole name is given
OF_FILES = re.compile(r"^\d+ +(newfstatat|openat|getdents64|readlink|unlink|rename|linkat|mkdirat)\(")


def main() -> None:
    """Print how many calls each command makes that touch the project or the store, and how long it takes."""
    if shutil.which("strace") is None:
        print("strace is not here, so nothing is simulated", file=sys.stderr)
        return
    for title, (libraries, modules) in SIZES.items():
        names = [f"comb{number}" for number in range(libraries)]
        with (
            tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
            served(partial(libraries_of, names, modules)) as address,
        ):
            project = Project(Path(holder), address, names)
            project.rabbet("recreate")
            print(f"{title}: calls to project and store, in all · s at {DELAY / 1000:.0f} ms a call")
            for command in COMMANDS:
                project.run(PROGRAM, *command)  # what it finds is known from now on
                near, calls = counted(project, command)
                print(f"  {' '.join(command):<12} {near:>7,} {calls:>7,}   {delayed(project, command):6.1f}")


def counted(project: Project, command: list[str]) -> tuple[int, int]:
    """The calls of a command that touch the project or the store, and all calls that name a file."""
    log = project.folder.parent / "calls"
    project.run("strace", "-f", "-y", "-o", str(log), PROGRAM, *command)
    lines = [line for line in log.read_text(errors="replace").splitlines() if OF_FILES.match(line)]
    lines = [HERE.sub("", line) for line in lines]
    places = (str(project.folder), str(project.store))
    return sum(any(place in line for place in places) for line in lines), len(lines)


def delayed(project: Project, command: list[str]) -> float:
    """The seconds that a command takes where each such call takes a millisecond longer."""
    slow = ["strace", "-f", "-o", "/dev/null", "-e", f"trace={CALLS}"]
    begun = time.perf_counter()
    project.run(*slow, "-e", f"inject={CALLS}:delay_enter={DELAY}", PROGRAM, *command)
    return time.perf_counter() - begun


if __name__ == "__main__":
    main()
