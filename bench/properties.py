"""The suite's properties with other seeds in each round, and twice as many processes as there are cores.

Run it as `python -m bench.properties [MINUTES] [MODULE ...]`. It prints what each failing module said, with
the command that repeats it: `TESTS_SEED=N python -m unittest MODULE`.
"""

import os
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import cycle
from pathlib import Path
from threading import Lock

TESTS = Path(__file__).resolve().parent.parent / "tests"
MARKS = ("from hypothesis", "from tests.support.chance", "import chance")
ROUND = 10_000  # seeds of one round; no test takes more


def modules() -> list[str]:
    """The modules that try random input."""
    return [
        ".".join(path.relative_to(TESTS.parent).with_suffix("").parts)
        for path in sorted(TESTS.rglob("test_*.py"))
        if any(mark in path.read_text() for mark in MARKS)
    ]


def failure(module: str, seed: int) -> str:
    """What a module said that failed with a seed; empty if it passed."""
    done = subprocess.run(
        [sys.executable, "-W", "error", "-m", "unittest", module],
        cwd=TESTS.parent,
        env={**os.environ, "TESTS_SEED": str(seed)},
        capture_output=True,
        text=True,
        check=False,
    )
    return f"TESTS_SEED={seed} python -m unittest {module}\n{done.stderr}" if done.returncode else ""


def main() -> None:
    """Explore until the time is up."""
    minutes = float(sys.argv[1]) if sys.argv[1:] else 60.0
    ended, first = time.monotonic() + 60 * minutes, time.time_ns() // 1_000_000
    jobs = (
        (module, first + ROUND * number) for number, module in enumerate(cycle(sys.argv[2:] or modules()))
    )
    rounds = failed = 0
    guard = Lock()

    def work(_: int) -> None:
        nonlocal rounds, failed
        while time.monotonic() < ended:
            with guard:
                module, seed = next(jobs)
                rounds += 1
            said = failure(module, seed)
            if said:
                failed += 1
                print(said, flush=True)

    with ThreadPoolExecutor(2 * (os.cpu_count() or 1)) as pool:
        list(pool.map(work, range(2 * (os.cpu_count() or 1))))
    print(f"{rounds} runs of modules from seed {first} on, {failed} failed")
    sys.exit(1 if failed else 0)


if __name__ == "__main__":
    main()
