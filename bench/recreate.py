"""Making environments, each figure beside its floor: an environment of about 10,000 files, and a small one.

Run it by `make bench`. Whole commands, in turn with their floor; medians are printed. The wheels are made up,
and served by the stand-in on the loopback address, in a process of its own.
"""

import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import tomllib
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path

from bench.in_turn import compared, line, put_aside
from bench.serving import serving
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from rabbet.store.layout import LAYOUT

PROGRAM = str(Path(sys.executable).parent / "rabbet")
SIZES = {"large": (25, 200), "small": (15, 6)}  # libraries, modules each; every module comes compiled too
WHEELS, MEGABYTES = 5, 100  # of the wheels whose installation is watched for the memory it takes
REPLAY = Path(__file__).with_name("replay.py")
# Fetches by bare libcurl, unzips on both cores; with a third argument it compiles the modules on both, too.
FETCH_AND_UNZIP = """
import subprocess, sys
from concurrent.futures import ThreadPoolExecutor
def unzip(path):
    subprocess.run(["unzip", "-q", path, "-d", path.removesuffix(".whl")], check=True)
fetching = subprocess.Popen([sys.executable, *sys.argv[1:3]], stdout=subprocess.PIPE, text=True)
with ThreadPoolExecutor(2) as cores:
    list(cores.map(unzip, (line.strip() for line in fetching.stdout)))
if sys.argv[3:]:
    subprocess.run([sys.executable, "-m", "compileall", "-q", "-j", "2", sys.argv[2]], check=True)
"""


def serve(make: Callable[[], Sequence[MadeUp]], told: Connection) -> None:
    """Serve what is made here and now, until told to end."""
    with StandIn(make()) as stand_in:
        told.send(stand_in.address)
        told.recv()


@contextmanager
def served(make: Callable[[], Sequence[MadeUp]]) -> Iterator[str]:
    """The address of an index with such releases, in another process."""
    with serving(serve, make) as (address, _):
        yield address


def library(name: str, modules: int) -> MadeUp:
    """A library with a package of so many modules, each with a function."""
    code = "def honey(weight):\n    return weight * 0.8\n" * 20
    more = tuple((f"{name}_cells/cell{number}.py", code) for number in range(modules))
    return MadeUp(name=name, version="1.0", code="x = 1\n", more=more)


def libraries_of(names: Sequence[str], modules: int) -> list[MadeUp]:
    """Libraries of these names."""
    return [library(name, modules) for name in names]


def noise_of(names: Sequence[str]) -> list[MadeUp]:
    """Libraries of these names with a large file each."""
    text = random.Random(1).randbytes(MEGABYTES * 500_000).hex()
    return [MadeUp(name=name, version="1.0", code="x = 1\n", more=((f"{name}.txt", text),)) for name in names]


class Project:
    """A project whose libraries are locked."""

    def __init__(self, folder: Path, address: str, names: Sequence[str]) -> None:
        self.folder = folder / "hivescale"
        self.store = folder / "store"
        self.folder.mkdir(parents=True)
        self.environment = self.folder / ".venv"
        self.copy, self.aside = folder / "copy", folder / "aside"
        self.variables = {
            "HOME": str(folder),
            "PATH": os.environ["PATH"],
            "RABBET_STORE": str(self.store),
        }
        (self.folder / "pyproject.toml").write_text(
            f'[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = {list(names)}\n'
            f'[[tool.rabbet.sources]]\nname = "made-up"\nurl = "{address}"\n'
        )
        self.rabbet("resolve")

    def run(self, *command: str, given: str = "", where: Path | None = None) -> None:
        """Run a command to its end, in the project's folder if in no other."""
        subprocess.run(
            command,
            cwd=where or self.folder,
            env=self.variables,
            check=True,
            stdout=subprocess.DEVNULL,
            input=given,
            text=True,
        )

    def rabbet(self, *arguments: str) -> None:
        """Run a command of rabbet that shows progress, without it."""
        self.run(PROGRAM, *arguments, "--quiet")

    def clear(self) -> None:
        """Take away the environment and the copy of it."""
        for path in (self.environment, self.copy):
            put_aside(path, self.aside)

    def refresh(self) -> None:
        """Make the environment from nothing, warm."""
        self.clear()
        self.rabbet("recreate")

    def make_elsewhere(self) -> None:
        """Make another project from the store, or delete the one that was made."""
        elsewhere = self.folder.parent / "elsewhere"
        if elsewhere.exists():
            shutil.rmtree(elsewhere)
            return
        elsewhere.mkdir()
        for name in ("pyproject.toml", "pylock.toml"):
            shutil.copy(self.folder / name, elsewhere / name)
        self.run(PROGRAM, "recreate", "--quiet", where=elsewhere)

    def forget(self) -> None:
        """Take away what was fetched, too."""
        self.clear()
        self.copy.mkdir()
        for part in ("wheels", "unpacked"):
            put_aside(self.store / LAYOUT / part, self.aside)

    def forget_sources(self) -> None:
        """Take away what sources told, and the lock."""
        (self.folder / "pylock.toml").unlink(missing_ok=True)
        for part in ("listings", "metadata"):
            put_aside(self.store / LAYOUT / part, self.aside)

    @property
    def wheels(self) -> list[str]:
        """The addresses of all locked wheels."""
        lock = tomllib.loads((self.folder / "pylock.toml").read_text())
        return [str(entry["wheels"][0]["url"]) for entry in lock["packages"]]


def main() -> None:
    """Print all figures."""
    print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
    for size, (libraries, modules) in SIZES.items():
        names = [f"comb{number}" for number in range(libraries)]
        with (
            tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
            served(partial(libraries_of, names, modules)) as address,
        ):
            measure(Project(Path(holder), address, names), size)
    watch_memory()


def measure(project: Project, size: str) -> None:
    """Print the figures of one environment."""
    project.rabbet("recreate")
    finished = project.folder.parent / "finished"
    project.run("cp", "-a", str(project.environment), str(finished))
    print(f"{size}: {sum(path.is_file() for path in finished.rglob('*'))} files")
    copy = ["cp", "-al", str(finished), str(project.copy)]
    bare, argparse = [sys.executable, "-c", "pass"], [sys.executable, "-c", "import argparse"]
    warm, *floors = compared(
        lambda: project.rabbet("recreate"),
        lambda: project.run(*copy),
        lambda: project.run(*bare),
        before=project.clear,
    )
    line("warm, from nothing | cp -al", warm, floors[0], "<= 1.3" if size == "large" else "")
    line("warm, from nothing | python -c pass", warm, floors[1], "<= 3" if size == "small" else "")
    first = compared(
        lambda: project.rabbet("recreate"), lambda: project.run(*argparse), before=project.refresh
    )
    line("nothing to do, the first time | import argparse", *first, "<= 2")
    times = compared(lambda: project.rabbet("recreate"), lambda: project.run(*argparse))
    line("nothing to do, later | import argparse", *times, "<= 2")
    times = compared(
        lambda: project.rabbet("recreate"), lambda: project.run(*argparse), before=project.make_elsewhere
    )
    line("nothing to do, another project made | import argparse", *times, "<= 2")
    project.make_elsewhere()
    times = compared(
        lambda: project.rabbet("recreate"), lambda: project.run(*argparse), before=project.make_elsewhere
    )
    line("nothing to do, another project deleted | import argparse", *times, "<= 2")
    project.make_elsewhere()
    plain = [sys.executable, "-c", FETCH_AND_UNZIP, str(REPLAY), str(project.copy)]
    addresses = json.dumps({"first": project.wheels})
    cold, later, *floors = compared(
        lambda: project.rabbet("recreate"),
        lambda: project.rabbet("recreate", "--compile-later"),
        lambda: project.run(*plain, given=addresses),
        lambda: project.run(*plain, "compile too", given=addresses),
        before=project.forget,
    )
    line("cold, modules compiled | fetching, unzip, compileall", cold, floors[1], "<= 1.0")
    line("cold, --compile-later | fetching and unzip", later, floors[0], "<= 1.5")


def watch_memory() -> None:
    """Print how much memory it takes to install large wheels of noise."""
    names = [f"noise{number}" for number in range(WHEELS)]
    made = partial(noise_of, names)  # in the other process: what this one holds would be counted too
    with tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder, served(made) as address:
        project = Project(Path(holder), address, names)
        command = [PROGRAM, "recreate", "--quiet"]
        process = subprocess.Popen(
            command, cwd=project.folder, env=project.variables, stdout=subprocess.DEVNULL
        )
        _, status, used = os.wait4(process.pid, 0)
        if status:
            sys.exit("the large wheels could not be installed")
    what = f"memory for {WHEELS} wheels of {MEGABYTES} MB, MiB"
    print(f"{what:<58} {used.ru_maxrss / 1024:>8.0f}")


if __name__ == "__main__":
    main()
