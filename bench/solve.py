"""How the solver scales: time, memory, conflicts and reads for growing locks, and hard instances.

Run it by `make bench`, or with `--on-disk FOLDER` to write the made-up index as a folder of wheels.
"""

import argparse
import statistics
import time
import tracemalloc
from collections.abc import Callable
from pathlib import Path

from tests.support.catalogue import TARGET

from bench.made_up_index import MadeUpIndex, Release, declaration_for, generate
from rabbet.core.declaration.model import Declared
from rabbet.core.needs.need import Need
from rabbet.core.solve.search.search import Effort
from rabbet.core.solve.solver import Refutation, solve

SIZES = (10, 30, 100, 300, 1000)
ROUNDS = 3


def main() -> None:
    """Print the tables."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--libraries", type=int, default=5000)
    parser.add_argument("--releases", type=int, default=100_000)
    parser.add_argument(
        "--on-disk", type=Path, help="write the made-up index as wheels into this folder, and stop"
    )
    arguments = parser.parse_args()
    index = generate(arguments.libraries, arguments.releases)
    made = sum(len(all_) for all_ in index.releases.values())
    print(f"made-up index: {len(index.releases)} libraries, {made} releases\n")
    if arguments.on_disk:
        index.write(arguments.on_disk)
        return
    growth(index)
    hard()


def growth(index: MadeUpIndex) -> None:
    """Locks of growing size from one index."""
    print(
        f"{'locked':>6} {'ms':>8} {'ms/lib':>7} {'MiB':>6} {'decisions':>9} {'conflicts':>9} {'reads/lib':>9}"
    )
    for size in SIZES:
        if size > len(index.releases):
            continue
        wanted = declaration_for(index, size)
        runs = [measure(MadeUpIndex(index.releases), wanted) for _ in range(ROUNDS)]
        middle = statistics.median(run[0] for run in runs)
        _, locked, effort, reads = runs[0]
        memory = peak(MadeUpIndex(index.releases), wanted)
        print(
            f"{locked:>6} {middle * 1000:>8.1f} {middle * 1000 / max(1, locked):>7.2f} {memory:>6.1f} "
            f"{effort.decisions:>9} {effort.conflicts:>9} {reads / max(1, locked):>9.2f}"
        )


def measure(index: MadeUpIndex, wanted: list[str]) -> tuple[float, int, Effort, int]:
    """Seconds, locked libraries (0: no solution), effort, metadata reads."""
    declared = [Declared(need=Need.parse(name)) for name in wanted]
    effort = Effort()
    begun = time.perf_counter()
    answer = solve(index, TARGET, declared, effort=effort)
    taken = time.perf_counter() - begun
    locked = 0 if isinstance(answer, Refutation) else len(answer.chosen)
    return taken, locked, effort, index.metadata_read


def peak(index: MadeUpIndex, wanted: list[str]) -> float:
    """The most memory that solving took, in MiB."""
    tracemalloc.start()
    measure(index, wanted)
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return most / 2**20


def hard() -> None:
    """Families of instances that defeat searches without learning, at growing sizes."""
    families: dict[str, tuple[Callable[[int], tuple[MadeUpIndex, list[str]]], tuple[int, ...]]] = {
        "diamonds": (diamonds, (10, 20, 40, 80)),
        "agreement": (agreement, (10, 20, 40, 80)),
        "one old release": (old_release, (25, 50, 100, 200)),
        "pigeonhole": (pigeonhole, (3, 4, 5, 6, 7)),
        "own pins": (own_pins, (300, 600, 1200, 2400)),
    }
    for title, (make, sizes) in families.items():
        print(f"\n{title}: {(make.__doc__ or '').splitlines()[0]}")
        print(f"{'size':>6} {'answer':>8} {'ms':>8} {'conflicts':>9}")
        for size in sizes:
            index, wanted = make(size)
            taken, locked, effort, _ = measure(index, wanted)
            print(f"{size:>6} {'yes' if locked else 'no':>8} {taken * 1000:>8.1f} {effort.conflicts:>9}")


def _index(releases: dict[str, dict[str, list[str]]]) -> MadeUpIndex:
    return MadeUpIndex(
        {name: [Release(v, 0, tuple(needs)) for v, needs in all_.items()] for name, all_ in releases.items()}
    )


def own_pins(size: int) -> tuple[MadeUpIndex, list[str]]:
    """Two libraries whose releases each pin a release of a third one, never the same."""
    releases = {
        "left": {f"1.{i}": [f"shared==1.{2 * i}"] for i in range(size)},
        "right": {f"1.{i}": [f"shared==1.{2 * i + 1}"] for i in range(size)},
        "shared": {f"1.{i}": [] for i in range(2 * size)},
    }
    return _index(releases), ["left", "right"]


def diamonds(size: int) -> tuple[MadeUpIndex, list[str]]:
    """A tower of diamonds whose foot clashes: each level has two sides that need the next level."""
    releases: dict[str, dict[str, list[str]]] = {}
    for level in range(size):
        below = f"level{level + 1}"
        for side in "ab":
            releases[f"side{level}{side}"] = {f"{v}.0": [f"{below}=={v}.*"] for v in (1, 2, 3)}
        releases[f"level{level}"] = {
            f"{v}.0": [f"side{level}a>={v}", f"side{level}b>={v}"] for v in (1, 2, 3)
        }
    releases[f"level{size}"] = {f"{v}.0": [f"foot=={v}.*", f"ground=={v + 1}.*"] for v in (1, 2, 3)}
    releases["foot"] = {f"{v}.0": ["ground<1.5"] for v in (1, 2, 3)}
    releases["ground"] = {f"{v}.0": [] for v in (1, 2, 3, 4)}
    return _index(releases), ["level0"]


def agreement(size: int) -> tuple[MadeUpIndex, list[str]]:
    """As many libraries as releases, all of which must agree on one shared release, and never can."""
    releases: dict[str, dict[str, list[str]]] = {
        f"member{m}": {f"{v}.0": [f"shared=={(v + m) % size + 1}.0"] for v in range(1, size)}
        for m in range(size)
    }
    releases["shared"] = {f"{v}.0": [] for v in range(1, size + 1)}
    return _index(releases), [f"member{m}" for m in range(size)]


def old_release(size: int) -> tuple[MadeUpIndex, list[str]]:
    """Only the oldest of many releases lets the others be: all newer ones need what the project forbids."""
    releases: dict[str, dict[str, list[str]]] = {
        "frame": {f"{v}.0": ["wax>=2"] if v > 1 else [] for v in range(1, size)},
        "wax": {"1.0": [], "2.0": []},
    }
    for n in range(10):
        releases[f"user{n}"] = {f"{v}.0": ["frame"] for v in range(1, size)}
    return _index(releases), ["wax<2", *(f"user{n}" for n in range(10))]


def pigeonhole(size: int) -> tuple[MadeUpIndex, list[str]]:
    """One pigeon more than holes; every proof by resolution grows exponentially (Haken, 1985)."""
    releases: dict[str, dict[str, list[str]]] = {
        f"pigeon{p}": {f"{h + 1}.0": [f"hole{h}=={p + 1}.0"] for h in range(size)} for p in range(size + 1)
    }
    for h in range(size):
        releases[f"hole{h}"] = {f"{p + 1}.0": [] for p in range(size + 1)}
    return _index(releases), [f"pigeon{p}" for p in range(size + 1)]


if __name__ == "__main__":
    main()
