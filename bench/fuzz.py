"""Minutes of what `tests/test_readers.py`, `test_writers.py` and `test_shells.py` do in seconds.

Readers are fed with broken samples, writers and shells with names that nobody would give, from a new seed.
Run it as `python -m bench.fuzz [SECONDS_EACH] [NAME]`, with the name of a reader, a writer, or `shells`. It
prints each kind of failure once, and what led to it.
"""

import os
import random
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import partial
from itertools import islice
from pathlib import Path

from tests.support.readers import READERS, Reader, mutations
from tests.support.shells import SHELLS, paths_on_the_way
from tests.support.writers import WRITERS, Writer, names

_PLACES = 12  # folders that one walk leads through
_RABBET = [sys.executable, "-m", "rabbet"]


def fuzz(name: str, rounds: Iterator[Callable[[], object]], seconds: float) -> int:
    """Go through rounds for so many seconds; how many kinds of failures were found."""
    kinds: set[str] = set()
    ended, number, slowest = time.monotonic() + seconds, 0, 0.0
    for check in rounds:
        number += 1
        begun = time.process_time()
        try:
            check()
        except Exception as error:  # noqa: BLE001 - finding them is the purpose
            place = error.__traceback__
            while place is not None and place.tb_next is not None:
                place = place.tb_next
            kind = f"{type(error).__name__} at {place.tb_frame.f_code.co_qualname if place else ''}"
            if kind not in kinds:
                print(f"{name}: {kind}: {str(error)[:100]}\n    {getattr(check, 'args', ())!a:.300}")
            kinds.add(kind)
        slowest = max(slowest, time.process_time() - begun)
        if time.monotonic() > ended:
            break
    print(f"{name:<28} {number:>7} inputs, slowest {slowest:.2f} s, {len(kinds)} kinds of failures")
    return len(kinds)


def readings(reader: Reader, chance: random.Random, folder: Path) -> Iterator[Callable[[], object]]:
    """Broken samples for a reader, which may raise its own errors."""

    def read(content: bytes) -> None:
        with suppress(reader.own):
            reader.read(content, folder)

    return (partial(read, content) for content in mutations(reader.sample, chance))


def writings(writer: Writer, chance: random.Random) -> Iterator[Callable[[], object]]:
    """Names for a writer, whose text has the same shape with each."""
    plain = writer.shape(writer.write("ab"))

    def write(name: str) -> None:
        assert writer.shape(writer.write(name)) == plain

    return (partial(write, name) for name in names(chance))


def walks(chance: random.Random, root: Path) -> Iterator[Callable[[], object]]:
    """Walks of each shell through environments in folders that are called like nothing else."""
    variables = {"PATH": os.environ["PATH"], "HOME": str(root), "LANG": "C.UTF-8"}
    variables["RABBET_STORE"] = str(root / "store")
    variables["RABBET_STATE"] = str(root / "state")

    def rabbet(*arguments: str, folder: Path = root) -> str:
        done = subprocess.run(
            [*_RABBET, *arguments], cwd=folder, env=variables, capture_output=True, text=True, check=True
        )
        return done.stdout

    def walk(called: list[str]) -> None:
        places = []
        for number, name in enumerate(called):
            safe = name.replace("/", "").replace("\0", "").encode(errors="replace").decode()
            place = root / str(time.time_ns()) / f"{safe}{number}" / "p"
            place.mkdir(parents=True)
            for command in ("begin --name x --runtime python>=3.11", "resolve --offline", "recreate"):
                rabbet(*command.split(), folder=place)
            places.append(place)
        for shell in SHELLS:
            follow = root / f"follow.{shell}"
            follow.write_text(rabbet("follow", shell))
            for folders in paths_on_the_way(shell, follow, places, variables):
                assert all(folder.startswith("/") for folder in folders), folders
        assert not [*root.rglob("HERE")]

    endless = names(chance)
    while True:
        yield partial(walk, list(islice(endless, _PLACES)))


def main() -> None:
    """Fuzz one of them, or all."""
    seconds = float(sys.argv[1]) if sys.argv[1:] else 60.0
    seed = time.time_ns()
    print(f"seed {seed}")
    found = 0
    for name in [*READERS, *WRITERS, "shells"]:
        if sys.argv[2:] and name not in sys.argv[2:]:
            continue
        chance = random.Random(f"{name} {seed}")
        with tempfile.TemporaryDirectory() as folder:
            if name in READERS:
                rounds = readings(READERS[name], chance, Path(folder))
            elif name in WRITERS:
                rounds = writings(WRITERS[name], chance)
            else:
                rounds = walks(chance, Path(folder))
            found += fuzz(name, rounds, seconds)
    sys.exit(1 if found else 0)


if __name__ == "__main__":
    main()
