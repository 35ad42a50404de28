"""What rules cost: records of vulnerabilities read once and asked later, and resolving with all rules.

Run it by `make bench`. The floor of resolving is the same project without rules, run in turn; medians are
printed. The index is the stand-in, in a process of its own on the loopback address.
"""

import resource
import tempfile
import time
import zipfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

from bench.in_turn import compared, line
from bench.made_up_index import declaration_for, generate
from bench.resolve import LOCKED, Bench
from bench.serving import serve_index, serving
from rabbet.demo.advisories import Flaw, many_records, record
from rabbet.demo.stand_in import Manner
from rabbet.store.advisory_index import AdvisoryIndex
from rabbet.store.advisory_records import records_in, state_of_records

RECORDS = 50_000
ASKED = 200  # libraries
RULES = """
[tool.rabbet.rules]
advisories = ["{place}"]
severity = 7
age = {{ least = "1d", sources = ["made-up"] }}
licences = {{ allow = ["MIT"], unknown = "note" }}
from = {{ builds = false, commits = false }}
"""


def main() -> None:
    """Measure both."""
    with tempfile.TemporaryDirectory() as folder:
        archive = Path(folder) / "all.zip"
        with zipfile.ZipFile(archive, "w", zipfile.ZIP_DEFLATED) as file:
            for name, content in many_records(RECORDS):
                file.writestr(name, content)
        read_once(archive)
        resolve(archive, Path(folder))


def read_once(archive: Path) -> None:
    """Reading all records into an index, and asking that."""
    index = AdvisoryIndex(archive.parent / "index.sqlite")
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    begun = time.perf_counter()
    index.write(records_in(archive), state="", written=0.0)
    taken = time.perf_counter() - begun
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(f"{RECORDS} records, once: {taken:.1f} s, {after / 1000:.0f} MB ({before / 1000:.0f} before)")
    names = [canonicalize_name(f"hive-{number}") for number in range(ASKED)]

    def ask() -> None:
        state_of_records(archive)
        index.facts()
        index.about(names)

    (asking,) = compared(ask)
    print(f"later, {ASKED} libraries: {asking * 1000:.0f} ms")


def resolve(archive: Path, folder: Path) -> None:
    """A lock of a hundred libraries: made, and found up to date; without rules and with all of them."""
    index = generate(600, 8000)
    with serving(serve_index, index, Manner()) as (address, _):
        benches = []
        for name in ("ruled", "plain"):
            (folder / name).mkdir()
            benches.append(Bench(folder / name, address, declaration_for(index, LOCKED)))
        with zipfile.ZipFile(archive, "a") as file:  # some are about what is declared
            for number, text in enumerate(benches[0].wanted[:20]):
                name = canonicalize_name(Requirement(text).name)
                file.writestr(f"own-{number}.json", record(f"OWN-{number}", name, Flaw(introduced="99")))
        for bench, rules in zip(benches, (RULES.format(place=archive), ""), strict=True):
            bench.declare()
            declaration = bench.project / "pyproject.toml"
            declaration.write_text(declaration.read_text() + rules)
            bench.resolve()
        print(f"{'':<58} {'ms':>8} {'without':>8} {'ratio':>6}  aim")
        for what, before in (("cold", Bench.forget), ("from kept listings", unlock), ("up to date", leave)):
            works = [partial(resolved, bench, before) for bench in benches]
            line(f"resolve, {what}, all rules", *compared(*works, rounds=7), "<= 1.15")


def leave(_: Bench) -> None:
    """Nothing happens: the lock stays."""


def unlock(bench: Bench) -> None:
    """Remove the lock."""
    (bench.project / "pylock.toml").unlink(missing_ok=True)


def resolved(bench: Bench, before: Callable[[Bench], None]) -> None:
    """Resolve once more."""
    before(bench)
    bench.resolve()


if __name__ == "__main__":
    main()
