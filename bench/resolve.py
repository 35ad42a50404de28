"""Resolving a lock of a hundred libraries as users do, each figure beside its floor.

Run it by `make bench`. The index is the stand-in, in a process of its own on the loopback address; every
answer comes 20 ms late. What is compared is run in turn, so that a machine whose speed drifts favours nobody;
medians are printed. With `--before PROGRAM`, the `rabbet` of another checkout is measured too.
"""

import json
import os
import resource
import subprocess
import sys
import tempfile
import tomllib
from functools import partial
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from bench.in_turn import compared, line, program_before, put_aside
from bench.made_up_index import declaration_for, generate
from bench.serving import serve_index, serving
from rabbet.demo.stand_in import Manner
from rabbet.store.layout import LAYOUT

LOCKED = 100
LATENCY = 0.020  # seconds
PROGRAM = str(Path(sys.executable).parent / "rabbet")
REPLAY = Path(__file__).with_name("replay.py")


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

    def resolve(self, program: str = PROGRAM) -> None:
        """Run `rabbet resolve`."""
        self.run([program, "resolve", "--quiet"])

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

    def plan(self) -> dict[str, object]:
        """What the solution needs, for the floor: what is asked at once, and what each answer reveals."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        then = {}
        for entry in lock["packages"]:
            metadata = f"{entry['wheels'][0]['url']}.metadata"
            then[self.listing(entry["name"])] = [metadata]
            then[metadata] = [self.listing(needed["name"]) for needed in entry.get("dependencies", ())]
        declared = {canonicalize_name(Requirement(requirement).name) for requirement in self.wanted}
        return {"first": [self.listing(name) for name in sorted(declared)], "then": then}

    def listing(self, name: str) -> str:
        """The address of a library's page."""
        return f"{self.address}{name}/"


def main() -> None:
    """Print all figures."""
    before, index = program_before(__doc__), generate(600, 8000)
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        serving(serve_index, index, Manner(latency=LATENCY)) as (address, told),
    ):
        bench = Bench(Path(holder), address, declaration_for(index, LOCKED))
        bench.declare()
        bench.resolve()
        plan = bench.plan()
        told.send("requests")
        made = [request for request in told.recv() if "/simple/" in request or "/files/" in request]
        print(f"a lock of {len(plan['then']) // 2} libraries")
        print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
        bare = [sys.executable, "-c", "import argparse"]
        line(
            "warm, nothing changed | import argparse",
            *compared(bench.resolve, lambda: bench.run(bare)),
            "<= 3",
        )
        measure_cold(bench, plan, before)
        print(f"{'requests made | needed':<58} {len(made):>8} {len(plan['then']):>8}")
        measure_targets(bench)
    largest = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    print(f"{'memory of the largest run, MiB':<58} {largest:>8.0f}")


def measure_cold(bench: Bench, plan: dict[str, object], before: str) -> None:
    """A cold run against the replay of its requests, and against the program before."""
    replay = partial(bench.run, [sys.executable, str(REPLAY)], json.dumps(plan))
    others = [partial(bench.resolve, before)] if before else []
    cold, floor, *earlier = compared(bench.resolve, replay, *others, before=bench.forget)
    line("cold | replay of its requests", cold, floor, "<= 1.8")
    for process in earlier:
        line("cold, the program before | now", process, cold, ">= 1.8")


def measure_targets(bench: Bench) -> None:
    """Cold runs for several targets, each against one for one."""
    here = f"{sys.version_info.major}.{sys.version_info.minor}"
    three = 'targets = ["linux-x86_64", "macos-arm64", "windows-x86_64"]'
    one = f'pythons = ["{here}"]'
    for what, settings, floor in (
        ("three platforms | one", f"{three}\n{one}", f'targets = ["linux-x86_64"]\n{one}'),
        ("the whole range of Python | one version", "", one),
    ):
        works = [partial(_declared_and_resolved, bench, each) for each in (settings, floor)]
        line(f"cold, {what}", *compared(*works, before=bench.forget), "<= 1.3")


def _declared_and_resolved(bench: Bench, settings: str) -> None:
    bench.declare(settings)
    bench.resolve()


if __name__ == "__main__":
    main()
