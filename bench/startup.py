"""How long the program takes to start, against the floor: an interpreter that only imports argparse.

Run it by `make bench`. Each command is run in turn with its floor, so that a machine whose speed drifts does
not favour one of them; medians are printed with the ratio of each to the floor.
"""

import statistics
import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 25
PROGRAM = str(Path(sys.executable).parent / "rabbet")
COMMANDS = {
    "python -c 'import argparse'": [sys.executable, "-c", "import argparse"],
    "rabbet --version": [PROGRAM, "--version"],
    "rabbet --help": [PROGRAM, "--help"],
    "rabbet resolve --help": [PROGRAM, "resolve", "--help"],
}


def main() -> None:
    """Time all commands in turn and print medians and ratios."""
    taken: dict[str, list[float]] = {name: [] for name in COMMANDS}
    for turn in range(ROUNDS + 1):
        for name, command in COMMANDS.items():
            begun = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            if turn:  # the first round warms up
                taken[name].append(time.perf_counter() - begun)
    floor = statistics.median(next(iter(taken.values())))
    print(f"{'command':<30} {'median ms':>9} {'of floor':>8}")
    for name, times in taken.items():
        median = statistics.median(times)
        print(f"{name:<30} {median * 1000:>9.1f} {median / floor:>8.2f}")


if __name__ == "__main__":
    main()
