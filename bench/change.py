"""The commonest run: one library more, with everything warm, on a project of a hundred.

Run it by `make bench`; `--before PROGRAM` measures the `rabbet` of another checkout beside it. `declare`,
`resolve` and `recreate` are timed one by one, and then `declare --now`, which does all three, each beside
`python -c pass`; what they did is undone in between.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from bench.in_turn import program_before
from bench.made_up_index import declaration_for, generate
from bench.recreate import PROGRAM, Project
from bench.serving import serve_index, serving
from rabbet.demo.stand_in import Manner

LOCKED = 100
ROUNDS = 11
COMMANDS = ("declare", "resolve", "recreate")
AT_ONCE = "declare --now"


class Change:
    """A project, and the change that is made to it over and over."""

    def __init__(self, project: Project, program: str, library: str) -> None:
        self._project = project
        self._program = program
        self._library = library
        self.taken: dict[str, list[float]] = {command: [] for command in (*COMMANDS, AT_ONCE)}
        self._run("resolve")
        self._run("recreate")

    def measure(self) -> None:
        """Make the change, and undo it."""
        for command in COMMANDS:
            begun = time.perf_counter()
            self._run(command)
            self.taken[command].append(time.perf_counter() - begun)
        self._run("retract", "--now")
        begun = time.perf_counter()
        self._run("declare", "--now")
        self.taken[AT_ONCE].append(time.perf_counter() - begun)
        self._run("retract", "--now")

    def _run(self, command: str, *options: str) -> None:
        given = [self._library, *options] if command in ("declare", "retract") else ["--quiet"]
        self._project.run(self._program, command, *given)


def main() -> None:
    """Print all figures."""
    before, index = program_before(__doc__), generate(600, 8000)
    wanted = declaration_for(index, LOCKED)
    library = next(name for name in sorted(index.releases, reverse=True) if name.startswith("brood-clover"))
    programs = {"now": PROGRAM, **({"before": before} if before else {})}
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        serving(serve_index, index, Manner(max_age=600)) as (address, _),  # fresh for as long as on real ones
    ):
        changes = {
            name: Change(Project(Path(holder) / name, address, wanted), program, library)
            for name, program in programs.items()
        }
        floors = []
        for _ in range(ROUNDS):
            begun = time.perf_counter()
            subprocess.run([sys.executable, "-c", "pass"], check=True)
            floors.append(time.perf_counter() - begun)
            for change in changes.values():
                change.measure()
    show(changes, statistics.median(floors))


def show(changes: dict[str, Change], floor: float) -> None:
    """Print the medians, as multiples of the floor."""
    print(f"one library more in {LOCKED}: ms (times python -c pass, {floor * 1000:.0f} ms)")
    for name, change in changes.items():
        medians = {command: statistics.median(times) for command, times in change.taken.items()}
        medians["all three"] = sum(medians[command] for command in COMMANDS)
        told = (f"{what} {median * 1000:.0f} ({median / floor:.1f})" for what, median in medians.items())
        print(f"{name:<8} {'  '.join(told)}   aim: all three <= 8")


if __name__ == "__main__":
    main()
