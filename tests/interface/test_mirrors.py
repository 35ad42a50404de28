"""Mirrors of a source, and a source that moved: whoever answers, the lock's hashes decide."""

import json
import shutil
import unittest

from rabbet.demo.files import build_file
from rabbet.demo.stand_in import Fault, Manner, StandIn
from rabbet.formats.text.address import moved
from tests.interface.test_remote_sources import KIND, TALLYWAX, entry, index
from tests.support.hostile import Hostile, Reply
from tests.support.program import ProgramCase

NOBODY = "http://127.0.0.1:9/simple/"  # the port of a service that nobody offers any more (RFC 863)
FILE = f"/files/{TALLYWAX.filename}"
# an address, the folder it is seen from, another one → where the same path leads from there
MOVES = [
    ("http://a/simple/x/x.whl", "http://a/simple/", "https://b:8/m/simple/", "https://b:8/m/simple/x/x.whl"),
    ("http://a/files/x.whl", "http://a/simple/", "https://b/m/simple/", "https://b/m/files/x.whl"),
    ("http://a/files/x.whl", "http://a/simple", "https://b/m/simple", "https://b/m/files/x.whl"),
    ("http://a/x%20y.whl?q=1", "http://a/simple/", "http://b/simple/", "http://b/x%20y.whl"),
    ("http://a/files/x.whl", "http://a/api/simple/", "http://b/simple/", None),
    ("http://files/x.whl", "http://a/simple/", "http://b/simple/", None),
    ("https://a/x.whl", "http://a/simple/", "http://b/simple/", None),
    ("http://[", "http://a/simple/", "http://b/simple/", None),
]


class Moved(unittest.TestCase):
    """Addresses alone."""

    def test_moved(self) -> None:
        """The same path from another folder, and nothing where there is none."""
        for address, old, new, expected in MOVES:
            with self.subTest(address, old=old, new=new):
                self.assertEqual(moved(address, old, new), expected)


class Mirrors(ProgramCase):
    """A project that needs tallywax; its source is not what it was."""

    def declare(self, *addresses: str) -> None:
        """One source and its mirrors, or none."""
        text = '[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = ["tallywax"]\n'
        if addresses:
            text += (
                '[[tool.rabbet.sources]]\nname = "apiary"\n'
                f'url = "{addresses[0]}"\nmirrors = {json.dumps(addresses[1:])}\n'
            )
        (self.project / "pyproject.toml").write_text(text)

    def forget(self) -> None:
        """Neither an environment nor a store."""
        for place in (self.project / ".venv", self.root / "store"):
            shutil.rmtree(place, ignore_errors=True)

    def test_whoever_answers(self) -> None:
        """The lock is the same, and the first with the locked content gives it."""
        honest = self.serve(StandIn([TALLYWAX])).address
        lying = self.serve(StandIn([TALLYWAX], manner=Manner(faults={FILE: Fault.OTHER_CONTENT}))).address
        without = self.serve(StandIn([TALLYWAX], manner=Manner(faults={FILE: Fault.MISSING}))).address
        broken = self.serve(StandIn([TALLYWAX], manner=Manner(faults={"/simple/tallywax/": Fault.BROKEN})))
        locks = set()
        for first, mirrors in [
            (NOBODY, [honest]),
            (broken.address, [lying, honest]),
            (broken.address, [without, lying, honest]),
        ]:
            with self.subTest(first=first, mirrors=mirrors):
                self.forget()
                self.declare(first, *mirrors)
                self.rabbet("resolve")
                locks.add((self.project / "pylock.toml").read_text().replace(first, NOBODY))
                self.rabbet("recreate")
                self.rabbet("drift")
        self.assertEqual(len({lock.count(NOBODY) for lock in locks}), 1, "each names the source itself")

    def test_nobody_answers(self) -> None:
        """Every place that was asked is told, with the failure of the first."""
        self.declare(NOBODY, NOBODY.replace(":9/", ":11/"))
        refused = self.rabbet("resolve", code=5).err
        self.assertIn(NOBODY, refused)
        self.assertIn("its mirror http://127.0.0.1:11/simple/", refused)

    def test_other_layouts(self) -> None:
        """A place whose files lie elsewhere than beside its pages says itself where."""
        with Hostile(index(TALLYWAX)) as files, Hostile(index(TALLYWAX)) as there:
            page = {"meta": {}, "files": [entry(TALLYWAX, url=f"{files.origin}{FILE}")]}
            there.replies["/simple/tallywax/"] = Reply(json.dumps(page).encode(), headers=KIND)
            there.replies.pop(FILE)
            with Hostile(index(TALLYWAX)) as first:
                self.declare(f"{first.origin}/simple/", f"{there.origin}/simple/")
                self.rabbet("resolve")
            self.rabbet("recreate")
            self.assertEqual(self.installed(), {"tallywax": "1.0"})

    def test_moved(self) -> None:
        """What was locked from the user's source of before comes from that of today, if it is the same."""
        other = build_file(TALLYWAX)[:-1] + b"\1"
        cases: list[tuple[str, dict[str, Reply], int]] = [
            ("the same", index(TALLYWAX), 0),
            ("files alone", {FILE: Reply(build_file(TALLYWAX))}, 0),
            ("other content", index(TALLYWAX) | {FILE: Reply(other)}, 5),
            ("nothing", {}, 5),
        ]
        self.declare()
        with Hostile(index(TALLYWAX)) as before:
            self.variables["RABBET_SOURCE"] = f"{before.origin}/simple/"
            self.rabbet("resolve")
        for title, replies, code in cases:
            with self.subTest(title), Hostile(replies) as now:
                self.forget()
                self.variables["RABBET_SOURCE"] = f"{now.origin}/simple/"
                said = self.rabbet("recreate", code=code).err
                self.assertEqual("try     rabbet resolve --fresh-listings" in said, bool(code), said)
                self.assertEqual((self.project / ".venv").exists(), not code)
                if title == "the same":
                    self.rabbet("resolve", "--fresh-listings")
                    self.assertIn(now.origin, (self.project / "pylock.toml").read_text())
