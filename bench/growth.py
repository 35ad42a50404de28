"""How resolving and recreating grow with the number of libraries, as figures and as a picture.

Run it by `make bench`; with `--picture FILE` it draws them. Whole commands, everything cold: nothing fetched,
nothing remembered but what interpreters told of themselves. The exponent is the slope of a straight line
through the logarithms, by least squares.
"""

import argparse
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
from matplotlib.figure import Figure

from bench.made_up_index import declaration_for, generate
from bench.recreate import Project
from bench.serving import serve_index, serving
from rabbet.demo.stand_in import Manner

INDEX = (4000, 30_000)  # libraries and releases
SIZES = (10, 30, 100, 300, 1000)
ROUNDS = 3
AIM = 1.15


def main() -> None:
    """Print, and perhaps draw, all figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--picture", metavar="FILE", help="where to draw them")
    picture = parser.parse_args().picture
    index = generate(*INDEX)
    locked: list[int] = []
    taken: dict[str, list[float]] = {"resolve": [], "recreate": []}
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        serving(serve_index, index, Manner()) as (address, _),
    ):
        for size in SIZES:
            project = Project(Path(holder) / str(size), address, declaration_for(index, size))
            locked.append(len(project.wheels))
            print(f"{locked[-1]:>6} libraries", end="", flush=True)
            for command, times in taken.items():
                times.append(statistics.median(timed(project, command) for _ in range(ROUNDS)))
                print(f"  {command} {times[-1] * 1000:.0f} ms", end="", flush=True)
            print()
    exponents = {what: exponent(locked, times) for what, times in taken.items()}
    print(
        "exponents:",
        ", ".join(f"{what} {exponent:.2f}" for what, exponent in exponents.items()),
        f"(at most {AIM})",
    )
    if picture:
        draw(locked, taken, exponents).savefig(picture, dpi=110)


def timed(project: Project, command: str) -> float:
    """The seconds of one cold run."""
    project.forget()
    if command == "resolve":
        project.forget_sources()
    begun = time.perf_counter()
    project.rabbet(command)
    return time.perf_counter() - begun


def exponent(sizes: list[int], times: list[float]) -> float:
    """The slope of time over size, both as logarithms."""
    return float(np.polyfit(np.log(sizes), np.log(times), 1)[0])


def draw(locked: list[int], taken: dict[str, list[float]], exponents: dict[str, float]) -> Figure:
    """Time over size on two logarithmic scales, each line with its name and exponent beside it."""
    figure = Figure(figsize=(8, 5), layout="constrained")
    axes = figure.subplots()
    for (what, times), colour, marker in zip(taken.items(), ("#8a5a00", "#1f5c7a"), "os", strict=True):
        axes.plot(locked, times, color=colour, marker=marker)
        axes.annotate(
            f"{what}:\nexponent {exponents[what]:.2f}",
            (locked[2], times[2]),
            xytext=(10, -26),
            textcoords="offset points",
            color=colour,
        )
    axes.plot(SIZES, [0.3 * (size / 10) for size in SIZES], color="#999999", linestyle=":")
    axes.annotate(
        "in proportion",
        (SIZES[2], 3.0),
        xytext=(-8, 4),
        textcoords="offset points",
        ha="right",
        color="#666666",
    )
    axes.set(xscale="log", yscale="log", xlabel="locked libraries", ylabel="seconds, cold")
    axes.set_xticks(SIZES, [str(size) for size in SIZES])
    axes.set_yticks((0.3, 1, 3, 10, 30), ("0.3", "1", "3", "10", "30"))
    axes.minorticks_off()
    axes.spines[["top", "right"]].set_visible(False)
    axes.set_title("How the time of a cold run grows with the project", loc="left")
    return figure


if __name__ == "__main__":
    main()
