"""Timing several works in turn, so that a machine whose speed drifts favours none of them."""

import argparse
import statistics
import time
from collections.abc import Callable
from pathlib import Path

ROUNDS = 11


def program_before(purpose: str | None) -> str:
    """The program of another checkout, if this run is asked to compare with one; else empty."""
    parser = argparse.ArgumentParser(description=purpose)
    parser.add_argument("--before", default="", help="the program of another checkout, to compare with")
    return str(parser.parse_args().before)


def compared(
    *works: Callable[[], None], before: Callable[[], None] = lambda: None, rounds: int = ROUNDS
) -> list[float]:
    """The median seconds of each work, run in turn."""
    taken: list[list[float]] = [[] for _ in works]
    for turn in range(rounds + 1):
        for times, work in zip(taken, works, strict=True):
            before()
            begun = time.perf_counter()
            work()
            if turn:  # the first round warms up
                times.append(time.perf_counter() - begun)
    return [statistics.median(times) for times in taken]


def put_aside(path: Path, aside: Path) -> None:
    """Move what is at a path, if anything, into a folder, out of the way of the next run.

    It is not deleted: ext4 does not give a deleted file's place to new ones for a minute, and to look for
    other places would make the next run slow.
    """
    aside.mkdir(exist_ok=True)
    if path.exists():
        path.rename(aside / str(len(list(aside.iterdir()))))


def line(what: str, median: float, floor: float, aim: str) -> None:
    """Print one figure beside its floor."""
    print(f"{what:<58} {median * 1000:>8.0f} {floor * 1000:>8.0f} {median / floor:>6.2f}  {aim}")
