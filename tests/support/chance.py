"""Random input: the same in every run of the suite, other in each round of `bench/properties.py`."""

import os
import random

__all__ = ["SHIFT", "dice", "seeds"]

SHIFT = int(os.environ.get("TESTS_SEED", "0"))


def seeds(count: int) -> range:
    """The seeds of a test's rounds."""
    return range(SHIFT, SHIFT + count)


def dice(seed: int | str) -> random.Random:
    """A generator of a test's own."""
    return random.Random(f"{seed} {SHIFT}" if SHIFT else seed)
