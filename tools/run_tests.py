"""Run the suite's modules in one process more than there are cores, the slowest first: some wait.

Each module runs by itself, as `python -m unittest MODULE` does, and what it printed is shown when it is done.
Those that run one after the other share a process in which Rabbet is loaded (`tests/support/preloaded.py`).
"""

import os
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor, as_completed
from contextlib import ExitStack
from pathlib import Path
from queue import SimpleQueue

TESTS = Path(__file__).resolve().parent.parent / "tests"
sys.path.insert(0, str(TESTS.parent))

from tests.support.preloaded import DESCRIPTOR, preloaded  # noqa: E402 - found where the line above points


def main() -> int:
    """Run all modules; 0 if every test of each has passed."""
    begun = time.monotonic()
    modules = sorted(TESTS.rglob("test_*.py"), key=_likely_slow, reverse=True)
    failed = []
    workers = (os.cpu_count() or 1) + 1
    loaded: SimpleQueue[int] = SimpleQueue()
    with ExitStack() as whole, ThreadPoolExecutor(workers) as pool:
        for _ in range(workers):
            loaded.put(whole.enter_context(preloaded()))
        jobs = {pool.submit(_run, path, loaded): path for path in modules}
        for number, job in enumerate(as_completed(jobs), 1):
            name, done = _name(jobs[job]), job.result()
            print(f"[{number}/{len(jobs)}] {name}: {_outcome(done.stderr)}", flush=True)
            if done.returncode:
                failed.append(name)
                print(done.stdout + done.stderr, flush=True)
    taken = time.monotonic() - begun
    print(
        f"{len(failed)} of {len(modules)} modules failed, in {taken:.0f} s: {', '.join(failed)}"
        if failed
        else f"All {len(modules)} modules passed, in {taken:.0f} s."
    )
    return 1 if failed else 0


def _likely_slow(path: Path) -> tuple[bool, int]:
    """Tests of the interface start hundreds of processes."""
    return path.parent.name == "interface", path.stat().st_size


def _name(path: Path) -> str:
    return ".".join(path.relative_to(TESTS.parent).with_suffix("").parts)


def _run(path: Path, loaded: "SimpleQueue[int]") -> "subprocess.CompletedProcess[str]":
    command = [sys.executable, "-W", "error", "-m", "unittest", _name(path)]
    descriptor = loaded.get()
    try:
        return subprocess.run(
            command,
            cwd=TESTS.parent,
            env={**os.environ, DESCRIPTOR: str(descriptor)},
            pass_fds=[descriptor],
            capture_output=True,
            text=True,
            check=False,
        )
    finally:
        loaded.put(descriptor)


def _outcome(printed: str) -> str:
    """Unittest's last words, and how many tests there were."""
    lines = [line for line in printed.splitlines() if line.strip()]
    ran = next((line for line in lines if line.startswith("Ran ")), "ran nothing")
    return f"{ran}, {lines[-1] if lines else 'said nothing'}"


if __name__ == "__main__":
    sys.exit(main())
