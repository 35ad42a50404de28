"""A team on one index: twenty machines that resolve at once, and again within the freshness of the listings.

Run it by `make bench`. Each machine is a process with a store of its own; the index, on the same machine,
counts what it is asked. Told are the requests for each library that a machine locks.
"""

import subprocess
import tempfile
import time
from pathlib import Path

from bench.made_up_index import declaration_for, generate
from bench.recreate import PROGRAM, Project
from bench.serving import serve_index, serving
from rabbet.demo.stand_in import Manner

MACHINES = 20
LOCKED = 100


def main() -> None:
    """Print all figures."""
    index = generate(600, 8000)
    wanted = declaration_for(index, LOCKED)
    with (
        tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder,
        serving(serve_index, index, Manner(max_age=600)) as (address, told),
    ):
        machines = [Project(Path(holder) / str(number), address, wanted) for number in range(MACHINES)]
        libraries = len(machines[0].wheels) * MACHINES
        for machine in machines:
            machine.forget_sources()
        told.send("requests")
        told.recv()
        for what in ("from nothing", "again, the listings being fresh", "again, all of it asked for anew"):
            options = ["--fresh-listings"] if "anew" in what else []
            begun = time.perf_counter()
            running = [start(machine, options) for machine in machines]
            codes = {process.wait() for process in running}
            told.send("requests")
            made = len(told.recv())
            seconds = time.perf_counter() - begun
            print(f"{what:<34} {made / libraries:.2f} requests a library, {seconds:.1f} s, exit {codes}")


def start(machine: Project, options: list[str]) -> "subprocess.Popen[bytes]":
    """Resolve without a lock from before."""
    (machine.folder / "pylock.toml").unlink(missing_ok=True)
    command = [PROGRAM, "resolve", "--quiet", *options]
    return subprocess.Popen(command, cwd=machine.folder, env=machine.variables, stdout=subprocess.DEVNULL)


if __name__ == "__main__":
    main()
