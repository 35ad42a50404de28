"""Minutes of what `tests/test_readers.py` does in seconds: readers fed with broken samples, from a new seed.

Run it as `python -m bench.fuzz [SECONDS_PER_READER] [READER]`; it prints each kind of foreign error once, and
the bytes that led to it.
"""

import random
import sys
import tempfile
import time
from pathlib import Path

from tests.support.readers import READERS, Reader, mutations


def fuzz(name: str, reader: Reader, seconds: float, seed: int) -> int:
    """Feed one reader; how many kinds of foreign errors were found."""
    kinds: set[str] = set()
    ended, number, slowest = time.monotonic() + seconds, 0, 0.0
    with tempfile.TemporaryDirectory() as folder:
        for content in mutations(reader.sample, random.Random(f"{name} {seed}")):
            number += 1
            begun = time.process_time()
            try:
                reader.read(content, Path(folder))
            except reader.own:
                pass
            except Exception as error:  # noqa: BLE001 - finding them is the purpose
                place = error.__traceback__
                while place is not None and place.tb_next is not None:
                    place = place.tb_next
                kind = f"{type(error).__name__} at {place.tb_frame.f_code.co_qualname if place else ''}"
                if kind not in kinds:
                    print(f"{name}: {kind}: {str(error)[:100]}\n    {content[:200]!r}")
                kinds.add(kind)
            slowest = max(slowest, time.process_time() - begun)
            if time.monotonic() > ended:
                break
    print(f"{name:<28} {number:>7} inputs, slowest {slowest:.2f} s, {len(kinds)} foreign errors")
    return len(kinds)


def main() -> None:
    """Fuzz one reader, or all."""
    seconds = float(sys.argv[1]) if sys.argv[1:] else 60.0
    seed = time.time_ns()
    print(f"seed {seed}")
    found = [
        fuzz(name, reader, seconds, seed)
        for name, reader in READERS.items()
        if not sys.argv[2:] or name in sys.argv[2:]
    ]
    sys.exit(1 if any(found) else 0)


if __name__ == "__main__":
    main()
