"""The whole job, from an empty folder to a retracted library, on every kind of source."""

import re
import tomllib
import unittest
from pathlib import Path

from packaging.pylock import Pylock

from rabbet.demo.files import write_files
from rabbet.demo.stand_in import Fault, Manner, StandIn
from tests.support.program import ProgramCase

SEAL = re.compile(r'seal = "\w+"')
EXPECTED = {
    "broodcount": "1.1",
    "combframe": "2.1",
    "mitewatch": "0.6",
    "nectarplot": "2.1",
    "pollencsv": "1.2",
    "smokerlog": "2.0",
    "tallywax": "1.2",
}
MANNERS = {
    "JSON with metadata files": Manner(),
    "HTML": Manner(json=False),
    "byte ranges": Manner(metadata_files=False),
    "whole wheels only": Manner(json=False, metadata_files=False, ranges=False),
}


class Story(ProgramCase):
    """Declare, resolve, recreate, drift, retract."""

    def test_on_indexes(self) -> None:
        """Every manner in which an index may serve leads to the same lock, but for addresses."""
        locks = []
        for title, manner in MANNERS.items():
            with self.subTest(title):
                self.fresh()
                index = self.serve(StandIn(manner=manner))
                self.play(index.address)
                text = (self.project / "pylock.toml").read_text()
                locks.append(SEAL.sub("SEAL", text.replace(f":{index.port}/", ":PORT/")))
                whole = [
                    request
                    for request in index.requests
                    if request.startswith("GET") and request.endswith(".whl")
                ]
                if manner.metadata_files:
                    self.assertEqual(len(whole), len(EXPECTED), "only what is installed is fetched whole")
        self.assertEqual(len({lock.split("[tool.rabbet]")[0] for lock in locks}), 1)

    def test_on_a_folder(self) -> None:
        """A folder of wheels works like an index; the lock names it as the declaration does."""
        write_files(self.root / "wheels")
        for address in ("../wheels", str(self.root / "wheels"), (self.root / "wheels").as_uri()):
            with self.subTest(address):
                self.project = self.root / f"project-{len(address)}"
                self.project.mkdir()
                self.play(address)
                lock = tomllib.loads((self.project / "pylock.toml").read_text())
                wheel = lock["packages"][0]["wheels"][0]
                place = wheel.get("path") or wheel["url"]
                self.assertTrue(place.startswith(address), place)

    def play(self, address: str) -> None:
        """The commands of the first screen, each result checked."""
        self.begin(address)
        self.rabbet("declare", "nectarplot>=2", "pollencsv")
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("resolve")
        self.check_lock()
        before = (self.project / "pylock.toml").read_bytes()
        again = self.rabbet("resolve", "--json").json()
        self.assertTrue(again["untouched"])
        self.rabbet("resolve", "--raise-all")
        self.assertEqual((self.project / "pylock.toml").read_bytes(), before)

        planned = self.rabbet("recreate", "--plan", "--json").json()
        self.assertEqual({step["action"] for step in planned["steps"]}, {"add"})
        self.assertFalse((self.project / ".venv").exists())
        self.rabbet("recreate")
        self.assertEqual(self.installed(), EXPECTED)
        shown = self.rabbet("run", "python", "-c", "import nectarplot as n; print(n.chart(['may'], [3]))")
        self.assertIn("may | ####", shown.out)
        self.assertIn("mitewatch:", self.rabbet("run", "mitewatch").out)
        self.rabbet("drift")
        stamps = self.modification_times()
        self.assertEqual(self.steps(), [])
        self.assertEqual(self.modification_times(), stamps)

        (self.site / "combframe.py").unlink()
        (self.site / "combframe.py").write_text("x = 1\n")
        (self.site / "tallywax-1.2.dist-info" / "METADATA").unlink()
        found = self.rabbet("drift", "--json", code=1).json()["findings"]
        kinds = {finding["name"]: finding["kind"] for finding in found}
        self.assertEqual(kinds, {"combframe": "altered", "tallywax": "missing"})
        self.rabbet("recreate")
        self.rabbet("drift")
        self.assertNotIn("x = 1", (self.site / "combframe.py").read_text())

        self.rabbet("retract", "pollencsv")
        self.assertIn("unresolved", self.rabbet("drift", code=1).out)
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual(self.installed(), {k: v for k, v in EXPECTED.items() if k != "pollencsv"})
        self.assertFalse((self.site / "pollencsv.py").exists())

    def check_lock(self) -> None:
        """The standard's own reader takes the lock, and finds files, sizes, hashes, edges and groups."""
        content = tomllib.loads((self.project / "pylock.toml").read_text())
        lock = Pylock.from_dict(content)
        lock.validate()
        self.assertEqual({package.name: str(package.version) for package in lock.packages}, EXPECTED)
        self.assertEqual(
            [str(dependency_group) for dependency_group in lock.dependency_groups or ()], ["checks"]
        )
        by_name = {package.name: package for package in lock.packages}
        self.assertEqual(
            [entry["name"] for entry in by_name["mitewatch"].dependencies or ()], ["broodcount", "smokerlog"]
        )
        self.assertEqual(str(by_name["broodcount"].marker), '"checks" in dependency_groups')
        self.assertIsNone(by_name["smokerlog"].marker)
        for package in lock.packages:
            for wheel in package.wheels or ():
                self.assertEqual(len(wheel.hashes["sha256"]), 64)
                self.assertGreater(wheel.size or 0, 100)
        self.assertTrue(content["tool"]["rabbet"]["fingerprint"].startswith("sha256:"))

    def modification_times(self) -> dict[Path, int]:
        """When each thing in the environment was changed (what Python compiles by itself left out)."""
        paths = (path for path in (self.project / ".venv").rglob("*") if "__pycache__" not in str(path))
        return {path: path.lstat().st_mtime_ns for path in paths}


class Behaviour(ProgramCase):
    """Single promises."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())

    def test_declaration_by_hand(self) -> None:
        """A declaration written by hand works from any folder below; comments survive each change."""
        text = f"""\
# the cooperative's scales
[project]
name = "hivescale"   # keep
dependencies = ["nectarplot"]  # plots

[tool.rabbet]
[[tool.rabbet.sources]]
name = "apiary"
url = "{self.index.address}"
"""
        (self.project / "pyproject.toml").write_text(text)
        below = self.project / "src" / "deep"
        below.mkdir(parents=True)
        self.rabbet("declare", "skepio", folder=below)
        self.rabbet("resolve", folder=below)
        self.assertIn("skepio", self.locked())
        self.rabbet("retract", "skepio", folder=below)
        self.assertEqual((self.project / "pyproject.toml").read_text(), text)

    def test_users_source(self) -> None:
        """Without a declared source the variable's is used, else that of the user's settings."""
        (self.project / "pyproject.toml").write_text('[project]\nname = "x"\ndependencies = ["queenmark"]\n')
        self.rabbet("resolve", RABBET_SOURCE=self.index.address)
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text(f'source = "{self.index.address}"\n')
        (self.project / "pylock.toml").unlink()
        self.rabbet("resolve")
        self.assertEqual(self.locked(), {"queenmark": "1.1"})

    def test_locked_versions_stay_until_raised(self) -> None:
        """A new release moves nothing by itself; `--raise` moves what it names."""
        self.begin(self.index.address, "pollencsv<1.2", "honeyflow<1.2")
        self.rabbet("resolve")
        self.rabbet("declare", "--exactly", "pollencsv", "honeyflow")
        self.rabbet("resolve")
        self.assertEqual(self.locked()["pollencsv"], "1.1")
        moved = self.rabbet("resolve", "--raise", "pollencsv", "--json").json()["moves"]
        self.assertEqual([move["name"] for move in moved], ["pollencsv", "smokerlog"])
        self.assertEqual(self.locked()["honeyflow"], "1.1")
        self.rabbet("resolve", "--raise-all")
        self.assertEqual(self.locked()["honeyflow"], "1.2")

    def test_rules_of_releases(self) -> None:
        """Pre-releases, yanked releases, wheels of other systems, markers, extras, needs on Python."""
        cases = {
            "combframe": {"combframe": "2.1"},
            "combframe>=3.0rc1": {"combframe": "3.0rc1"},
            "hivewire": {"hivewire": "2.1"},
            "hivewire==2.2": {"hivewire": "2.2"},
            "broodcount": {"broodcount": "1.1"},
            "skepio": {"skepio": "0.4"},
            "smokerlog": {"smokerlog": "2.0", "queenmark": None},
            "nectarplot[forecast]": {"honeyflow": "1.2"},
            "royaljelly": {"hivewire": "2.1", "queenmark": "1.1"},
            "queenmark; sys_platform == 'win32'": {"queenmark": None},
        }
        for requirement, expected in cases.items():
            with self.subTest(requirement):
                (self.project / "pyproject.toml").unlink(missing_ok=True)
                self.begin(self.index.address, requirement)
                self.rabbet("resolve", "--raise-all")
                locked = self.locked()
                self.assertEqual({name: locked.get(name) for name in expected}, expected)

    def test_nothing_is_asked_twice(self) -> None:
        """Each address is fetched once; a second project finds all files in the store."""
        self.begin(self.index.address, "royaljelly", "nectarplot[forecast]")
        self.rabbet("resolve")
        self.assertEqual(len(self.index.requests), len(set(self.index.requests)), self.index.requests)
        self.rabbet("recreate")
        self.index.requests.clear()
        lock = (self.project / "pylock.toml").read_bytes()
        self.project = self.root / "again"
        self.project.mkdir()
        self.begin(self.index.address, "royaljelly", "nectarplot[forecast]")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual((self.project / "pylock.toml").read_bytes(), lock)
        self.assertEqual([request for request in self.index.requests if "/files/" in request], [])

    def test_listings_are_kept(self) -> None:
        """Unchanged pages are not sent again, fresh ones not asked for, and offline the store is enough."""
        manner = Manner()
        index = self.serve(StandIn(manner=manner))
        self.begin(index.address, "nectarplot")
        self.rabbet("resolve")
        lock = (self.project / "pylock.toml").read_bytes()
        self.rabbet("recreate")
        index.requests.clear()
        self.rabbet("resolve", "--raise-all")
        self.assertEqual({request.split()[0] for request in index.requests}, {"GET"})
        self.assertEqual({request.split("/")[1] for request in index.requests}, {"simple"})
        self.rabbet("resolve", "--raise-all", "--offline")
        (self.project / "pylock.toml").unlink()
        self.rabbet("resolve", RABBET_OFFLINE="1")
        self.assertEqual((self.project / "pylock.toml").read_bytes(), lock)
        asked = len(index.requests)
        self.rabbet("declare", "queenmark")
        self.assertIn("offline: http://127.0.0.1", self.rabbet("resolve", "--offline", code=5).err)
        self.assertEqual(len(index.requests), asked)

        fresh = self.serve(StandIn(manner=Manner(max_age=600)))
        path = self.project / "pyproject.toml"
        path.write_text(path.read_text().replace(index.address, fresh.address))
        self.rabbet("resolve", "--raise-all")
        fresh.requests.clear()
        (self.project / "pylock.toml").unlink()
        self.rabbet("resolve")
        self.assertEqual(fresh.requests, [], "its pages are fresh for ten minutes")
        for option in ("--raise-all", "--fresh-listings"):
            self.rabbet("resolve", option)
            self.assertNotEqual(fresh.requests, [], option)
            fresh.requests.clear()

    def test_busy_index(self) -> None:
        """An index that asks for patience gets it: listings, metadata and wheels are asked for again."""
        wheel = "/files/queenmark-1.1-py3-none-any.whl"
        manner = Manner()
        manner.faults.update(
            {"/simple/queenmark/": Fault.BUSY, f"{wheel}.metadata": Fault.CROWDED, wheel: Fault.BUSY}
        )
        index = self.serve(StandIn(manner=manner))
        self.begin(index.address, "queenmark")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual(self.installed(), {"queenmark": "1.1"})
        for path, fault in manner.faults.items():
            self.assertEqual(index.requests.count(f"GET {path}"), 3 if fault is Fault.BUSY else 2, path)

    def test_credentials(self) -> None:
        """From the address, variables or netrc they open the source, and appear in no output and no lock."""
        index = self.serve(StandIn(manner=Manner(password="bee:honey-pot")))
        netrc = self.root / "home" / ".netrc"
        with_password = index.address.replace("http://", "http://bee:honey-pot@")
        ways = {
            "address": (with_password, {}, ""),
            "variables": (
                index.address,
                {"RABBET_SOURCE_MAIN_USERNAME": "bee", "RABBET_SOURCE_MAIN_ORIGIN": index.address},
                "",
            ),
            "netrc": (index.address, {}, "machine 127.0.0.1 login bee password honey-pot\n"),
            "wrong": (with_password.replace("honey-pot", "honey-pots"), {}, ""),
        }
        for way, (address, variables, hosts) in ways.items():
            with self.subTest(way):
                netrc.write_text(hosts)
                given = {**variables, "RABBET_SOURCE_MAIN_PASSWORD": "honey-pot"} if variables else {}
                self.project = self.root / way
                self.project.mkdir()
                given["RABBET_STORE"] = str(self.root / f"store-{way}")
                self.begin(address, "queenmark")
                code = 5 if way == "wrong" else 0
                outcomes = [self.rabbet("resolve", code=code, **given)]
                if code:
                    self.assertIn("status 401", outcomes[0].err)
                else:
                    outcomes.append(self.rabbet("recreate", **given))
                    self.assertNotIn("honey-pot", (self.project / "pylock.toml").read_text())
                self.rabbet("declare", "nectarplod")
                outcomes.append(self.rabbet("resolve", code=code or 4, **given))
                self.assertNotIn("honey-pot", "".join(outcome.out + outcome.err for outcome in outcomes))

    def test_run_is_transparent(self) -> None:
        """Exit code, arguments, signals and the search for commands are the command's own."""
        self.begin(self.index.address)
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.rabbet("run", "python", "-c", "import sys; sys.exit(int(sys.argv[1]))", "37", code=37)
        self.rabbet("run", "--", "python", "-c", "import os; os.kill(os.getpid(), 15)", code=-15)
        where = self.rabbet("run", "python", "-c", "import sys; print(sys.prefix)").out.strip()
        self.assertEqual(Path(where), self.project / ".venv")
        self.assertEqual((self.project / ".venv" / ".gitignore").read_text().splitlines()[-1], "*")


if __name__ == "__main__":
    unittest.main()
