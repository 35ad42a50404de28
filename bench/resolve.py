"""Resolving a lock of a hundred libraries as users do, each figure beside its floor.

Run it by `make bench`. The index is the stand-in, in a process of its own on the loopback address; every
answer comes 20 ms late. What is compared is run in turn, so that a machine whose speed drifts favours nobody;
medians are printed.
"""

import json
import multiprocessing
import os
import resource
import subprocess
import sys
import tempfile
import tomllib
from multiprocessing.connection import Connection
from pathlib import Path

from bench.in_turn import compared, line, put_aside
from bench.made_up_index import MadeUpIndex, declaration_for, generate
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.store.blob_cache import LAYOUT

LOCKED = 100
LATENCY = 0.020  # seconds
CONCURRENCY = 16  # requests at a time, as Rabbet makes them
PROGRAM = str(Path(sys.executable).parent / "rabbet")
FETCH = """
import sys, json, urllib3
from concurrent.futures import ThreadPoolExecutor
pool = urllib3.PoolManager(maxsize=32)
with ThreadPoolExecutor(int(sys.argv[1])) as threads:
    list(threads.map(lambda url: pool.request("GET", url).data, json.load(sys.stdin)))
"""


def serve(index: MadeUpIndex, told: Connection) -> None:
    """Serve the index, and answer each message with the requests since the last one."""
    with StandIn(index.made_up(), manner=Manner(latency=LATENCY)) as stand_in:
        told.send(stand_in.address)
        while told.recv() != "end":
            told.send(stand_in.requests.copy())
            stand_in.requests.clear()


class Bench:
    """A project on a stand-in index, and a way to time commands on it."""

    def __init__(self, folder: Path, address: str, wanted: list[str]) -> None:
        self.folder = folder
        self.project = folder / "hivescale"
        self.project.mkdir()
        self.variables = {
            "HOME": str(folder),
            "PATH": os.environ["PATH"],
            "RABBET_STORE": str(folder / "store"),
        }
        self.address = address
        self.wanted = wanted

    def declare(self, settings: str = "", *more: str) -> None:
        """Write the declaration."""
        (self.project / "pyproject.toml").write_text(
            f'[project]\nname = "hivescale"\nrequires-python = ">=3.11"\n'
            f"dependencies = {json.dumps([*self.wanted, *more])}\n[tool.rabbet]\n{settings}\n"
            f'[[tool.rabbet.sources]]\nname = "made-up"\nurl = "{self.address}"\n'
        )

    def forget(self) -> None:
        """Make the next run a cold one; what was learned of runtimes stays."""
        (self.project / "pylock.toml").unlink(missing_ok=True)
        for kept in ("listings", "metadata"):
            put_aside(self.folder / "store" / LAYOUT / kept, self.folder / "aside")

    def resolve(self, *options: str) -> None:
        """Run `rabbet resolve`."""
        self.run([PROGRAM, "resolve", "--quiet", *options])

    def run(self, command: list[str], given: str = "") -> None:
        """Run a command to its end."""
        subprocess.run(
            command,
            cwd=self.project,
            env=self.variables,
            input=given,
            text=True,
            check=True,
            stdout=subprocess.DEVNULL,
        )

    def needed(self) -> list[str]:
        """The addresses of the listings and metadata that the final solution needs."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        listings = [f"{self.address}{entry['name']}/" for entry in lock["packages"]]
        return listings + [f"{entry['wheels'][0]['url']}.metadata" for entry in lock["packages"]]


def main() -> None:
    """Print all figures."""
    index = generate(600, 8000)
    here, there = multiprocessing.Pipe()
    server = multiprocessing.Process(target=serve, args=(index, there), daemon=True)
    server.start()
    address = here.recv()
    with tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder:
        bench = Bench(Path(holder), address, declaration_for(index, LOCKED))
        bench.declare()
        bench.resolve()
        needed = bench.needed()
        here.send("requests")
        made = [one for one in here.recv() if "/simple/" in one or "/files/" in one]
        locked = len(needed) // 2
        print(f"a lock of {locked} libraries\n{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
        argparse = [sys.executable, "-c", "import argparse"]
        times = compared(bench.resolve, lambda: bench.run(argparse))
        line("warm, nothing changed | import argparse", *times, "<= 3")
        fetch = [sys.executable, "-c", FETCH, str(CONCURRENCY)]
        times = compared(bench.resolve, lambda: bench.run(fetch, json.dumps(needed)), before=bench.forget)
        line("cold | fetching what the solution needs", *times, "<= 1.3")
        ratio = len(made) / len(needed)
        print(f"{'requests made | needed':<58} {len(made):>8} {len(needed):>8} {ratio:>6.2f}  <= 1.2")
        one, three = '["linux-x86_64"]', '["linux-x86_64", "macos-arm64", "windows-x86_64"]'

        def for_three() -> None:
            bench.declare(f"targets = {three}")
            bench.resolve()

        def for_one() -> None:
            bench.declare(f"targets = {one}")
            bench.resolve()

        line("cold, three targets | one", *compared(for_three, for_one, before=bench.forget), "<= 1.3")
    largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"{'memory of the largest run, MiB':<58} {largest:>8.0f}")
    here.send("end")
    server.join()


if __name__ == "__main__":
    main()
