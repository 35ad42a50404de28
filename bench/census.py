"""A census of ten thousand machines with 300 libraries each: sent to a database, shown, and looked back at.

Run it by `make bench`, or with another number of machines: `python -m bench.census 1000 [URL]`. The machines
are made up: most are at one of a few revisions of the lock, some have a few libraries in other versions.
"""

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path
from urllib.request import urlopen

from msgspec.structs import replace
from packaging.version import Version

from bench.recreate import PROGRAM, libraries_of, served
from bench.recreate import Project as Made
from rabbet.core.census.machine_inventory import MachineInventory
from rabbet.formats.cyclonedx import write_inventory_file
from rabbet.team.database import Database, DatabaseRecord, opened_database
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session
from rabbet.workspace.states.census import inventory_here

MACHINES, LIBRARIES = 10_000, 300
REVISIONS = 10  # of the lock that machines are at
BY_HAND = 0.1  # of the machines have something that no other has
REQUESTS = 50  # for the page, at once
RECORDS = 10  # of each machine, for what looks back
BATCH = 1000  # machines that are sent at once


def main() -> None:
    """Print how long each part takes."""
    count = int(sys.argv[1]) if sys.argv[1:] else MACHINES
    names = [f"comb{number}" for number in range(LIBRARIES)]
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        served(partial(libraries_of, names, 1)) as address,
    ):
        made = Made(Path(holder), address, names)
        made.rabbet("recreate")
        url = sys.argv[2] if sys.argv[2:] else f"sqlite:///{holder}/census.db"
        session = Session(Project(made.folder), Machine(made.folder, made.variables, Path(holder)))
        here = inventory_here(session, "here", None, deep=False)
        with opened_database(url) as database:
            sent, states = send_all(here, count, database)
            print(f"{count} machines x {LIBRARIES} libraries, {states} states")
            print(f"sent      {sent:>6.1f} s")
            measure(made, url, "show")
            measure_served(made, url)
            for _ in range(RECORDS - 1):
                send_all(here, count, database)
        print(f"with {RECORDS} records of each machine")
        for action in (
            ["show"],
            ["show", "--since", "1d"],
            ["show", "--library", "comb7"],
            ["trend"],
            ["news"],
        ):
            measure(made, url, *action)


def measure(made: Made, url: str, *action: str) -> None:
    """Print how long an action of the census takes, and how much memory."""
    begun = time.perf_counter()
    command = [PROGRAM, "census", *action, "--database", url, "--quiet"]
    process = subprocess.Popen(command, cwd=made.folder, env=made.variables, stdout=subprocess.DEVNULL)
    _, status, used = os.wait4(process.pid, 0)
    if os.waitstatus_to_exitcode(status) not in (0, 1):
        sys.exit(f"census {' '.join(action)} failed")
    print(f"{' '.join(action):<22} {time.perf_counter() - begun:>6.1f} s, {used.ru_maxrss / 1024:.0f} MiB")


def measure_served(made: Made, url: str) -> None:
    """Print what many browsers cost that ask for the page at once, beside the first one."""
    command = [PROGRAM, "census", "serve", "--database", url, "--quiet"]
    process = subprocess.Popen(
        command, cwd=made.folder, env=made.variables, stdout=subprocess.PIPE, text=True
    )
    assert process.stdout is not None
    address = process.stdout.readline().split()[1]
    with ThreadPoolExecutor(16) as pool:
        sizes = set(pool.map(lambda _: len(urlopen(address).read()), range(REQUESTS)))
    process.send_signal(signal.SIGINT)
    _, _, used = os.wait4(process.pid, 0)
    seconds = used.ru_utime + used.ru_stime
    print(
        f"served {REQUESTS} times        {seconds:>6.1f} s of processor time, {max(sizes) / 1000:.0f} kB each"
    )


def send_all(here: MachineInventory, count: int, database: Database) -> tuple[float, int]:
    """Send made-up machines in batches: the seconds without making them up, and how many states there are."""
    dice, taken, states = random.Random(1), 0.0, set()
    revisions = [changed(here, dice, number * 3) for number in range(REVISIONS)]
    for begun in range(0, count, BATCH):
        records = []
        for number in range(begun, min(count, begun + BATCH)):
            content = dice.choice(revisions)
            if dice.random() < BY_HAND:
                content = changed(here, dice, dice.randint(1, 4))
            states.add(content)
            records.append(DatabaseRecord(f"hive-{number}", 1_780_000_000 + number, content))
        started = time.perf_counter()
        database.send(here.project, records, keep=50)
        taken += time.perf_counter() - started
    return taken, len(states)


def changed(here: MachineInventory, dice: random.Random, count: int) -> str:
    """An inventory with some libraries in other versions, as it is stored."""
    libraries = dict(here.inventory.libraries)
    for name in dice.sample(sorted(libraries), count):
        libraries[name] = replace(
            libraries[name], version=Version(f"0.{dice.randint(1, 99)}"), wheel_sha256=None
        )
    inventory = replace(here.inventory, libraries=libraries)
    return write_inventory_file(replace(here, label="machine", recorded=0, inventory=inventory), "0.1.0")


if __name__ == "__main__":
    main()
