"""Timing several works in turn, so that a machine whose speed drifts favours none of them."""

import statistics
import time
from collections.abc import Callable

ROUNDS = 11


def compared(*works: Callable[[], None], before: Callable[[], None] = lambda: None) -> list[float]:
    """The median seconds of each work, run in turn."""
    taken: list[list[float]] = [[] for _ in works]
    for turn in range(ROUNDS + 1):
        for times, work in zip(taken, works, strict=True):
            before()
            begun = time.perf_counter()
            work()
            if turn:  # the first round warms up
                times.append(time.perf_counter() - begun)
    return [statistics.median(times) for times in taken]


def line(what: str, median: float, floor: float, aim: str) -> None:
    """Print one figure beside its floor."""
    print(f"{what:<58} {median * 1000:>8.0f} {floor * 1000:>8.0f} {median / floor:>6.2f}  {aim}")
