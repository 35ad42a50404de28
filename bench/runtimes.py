"""Runtimes, each figure beside its floor: listing those of this machine, and obtaining one of 60 MB.

Run it by `make bench`. Whole commands, in turn with their floor; medians are printed. The archive is made up,
and served by the stand-in on the loopback address, in a process of its own.
"""

import hashlib
import json
import os
import random
import subprocess
import sys
import tempfile
from multiprocessing.connection import Connection
from pathlib import Path

from bench.in_turn import compared, line, put_aside
from bench.serving import serving
from rabbet.demo.runtimes import LANGUAGE, build_runtime, shelf
from rabbet.demo.stand_in import StandIn
from rabbet.store.layout import LAYOUT, OBTAINED

PROGRAM = str(Path(sys.executable).parent / "rabbet")
FILES, BYTES = 3000, 60_000  # of the runtime
STAT = "import json, os, sys; [os.stat(path) for path in json.load(sys.stdin)]"
FETCH_AND_UNPACK = """
import hashlib, subprocess, sys, pycurl
digest, fetching = hashlib.sha256(), pycurl.Curl()
with open(sys.argv[2] + ".tar.gz", "wb") as file:
    def take(piece):
        digest.update(piece)
        file.write(piece)
    fetching.setopt(pycurl.URL, sys.argv[1])
    fetching.setopt(pycurl.WRITEFUNCTION, take)
    fetching.perform()
subprocess.run(["mkdir", "-p", sys.argv[2]], check=True)
subprocess.run(["tar", "-xzf", sys.argv[2] + ".tar.gz", "-C", sys.argv[2]], check=True)
"""


def large() -> dict[str, bytes]:
    """A catalogue with a runtime of many files, which pack to a third."""
    chance = random.Random(1)
    noise = [chance.randbytes(BYTES // 3).hex() for _ in range(8)]
    small = shelf(["2.1"])
    programs = {"waggle": "#!/bin/sh\\necho waggle 2.1\\n"}
    programs |= {f"part{number}": noise[number % 8] + str(number) for number in range(FILES)}
    archive = build_runtime("waggle-2.1", programs)
    old = hashlib.sha256(small["waggle-2.1.tar.gz"]).hexdigest()
    catalogue = small["catalogue.json"].decode().replace(old, hashlib.sha256(archive).hexdigest())
    size = str(len(small["waggle-2.1.tar.gz"]))
    catalogue = catalogue.replace(f'"size": {size}', f'"size": {len(archive)}')
    return {"/shelf/waggle-2.1.tar.gz": archive, "/shelf/catalogue.json": catalogue.encode()}


def serve(told: Connection) -> None:
    """Serve the runtime until told to end."""
    with StandIn([], more=large()) as stand_in:
        told.send(stand_in.address.removesuffix("simple/"))
        told.recv()


def main() -> None:
    """Print all figures."""
    print(f"{'':<58} {'ms':>8} {'floor':>8} {'ratio':>6}  aim")
    with tempfile.TemporaryDirectory(prefix="rabbet-bench-") as holder, serving(serve) as (address, _):
        measure(Path(holder), address)


def measure(folder: Path, address: str) -> None:
    """Print the figures of one machine."""
    own = {"RABBET_STORE": str(folder / "store"), "RABBET_STATE": str(folder / "state")}
    variables = {**os.environ, **own}
    store = folder / "store" / LAYOUT
    (folder / "pyproject.toml").write_text(
        f'[project]\nname = "hivescale"\n{LANGUAGE}[tool.rabbet.runtimes]\nwaggle = ""\n'
        f'[[tool.rabbet.catalogues]]\nname = "apiary"\nurl = "{address}shelf/catalogue.json"\n'
    )

    def run(*command: str, given: str = "") -> str:
        done = subprocess.run(
            command, cwd=folder, env=variables, input=given, capture_output=True, text=True, check=False
        )
        return done.stdout

    found = json.loads(run(PROGRAM, "runtimes", "--json", "--quiet"))
    programs = json.dumps([one["executable"] for one in [*found["runtimes"], *found["refused"]]])
    stat = [sys.executable, "-c", STAT]
    times = compared(lambda: run(PROGRAM, "runtimes", "--quiet"), lambda: run(*stat, given=programs))
    line(f"listing {len(json.loads(programs))} runtimes, warm | stat of each", *times, "")
    times = compared(
        lambda: run(PROGRAM, "runtimes", "--quiet"),
        lambda: run(*stat, given=programs),
        before=lambda: put_aside(store / "runtimes", folder / "aside"),
    )
    line("the same, cold: each is asked | stat of each", *times, "")

    def forget() -> None:
        for path in (store / OBTAINED, folder / "plain", folder / "plain.tar.gz"):
            put_aside(path, folder / "aside")

    plain = [
        sys.executable,
        "-c",
        FETCH_AND_UNPACK,
        f"{address}shelf/waggle-2.1.tar.gz",
        str(folder / "plain"),
    ]
    times = compared(
        lambda: run(PROGRAM, "runtimes", "obtain", "waggle", "--quiet"), lambda: run(*plain), before=forget
    )
    line("obtaining a runtime | fetching it and tar -xz", *times, "<= 1.2")


if __name__ == "__main__":
    main()
