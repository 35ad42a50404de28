"""What is proven by the built program: raises, bounds, all that is promised; commands that misbehave."""

import signal
import subprocess
import time
import tomllib
from pathlib import Path

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from tests.interface.test_culprit import NAMES
from tests.support import PATIENCE
from tests.support.program import ProgramCase


def failing(*conditions: str) -> list[str]:
    """A command that fails where one of these holds, such as `combframe >= (2, 0)`."""
    told = [f"number({condition.split()[0]}) {condition.partition(' ')[2]}" for condition in conditions]
    code = (
        f"import sys, {', '.join(NAMES)}\n"
        "def number(module): return tuple(map(int, module.__version__.split('.')))\n"
        f"print('looked'); sys.exit({' or '.join(told)})"
    )
    return ["--", "python", "-c", code]


class Proving(ProgramCase):
    """Six libraries with three releases each; the newest of two belong together."""

    def setUp(self) -> None:
        super().setUp()
        needs = {("smokerlog", "2.0"): ("tallywax>=2",)}
        made = [
            MadeUp(name=name, version=version, code="x = 1\n", needs=needs.get((name, version), ()))
            for name in NAMES
            for version in ("1.0", "1.5", "2.0")
        ]
        write_files(self.root / "wheels", made)
        self.begin("../wheels", *NAMES, runtime="python==3.11.*")
        self.rabbet("resolve", "--lowest", "--keep")

    def versions(self) -> dict[str, str]:
        """The versions in the lock."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        return {entry["name"]: entry["version"] for entry in lock["packages"]}

    def proven(self, kind: str, *arguments: str, code: int = 0) -> dict:
        """What `--json` says; nothing is left of any run."""
        document = self.rabbet("prove", f"--{kind}", "--json", *arguments, code=code).json()
        self.assertEqual([*(self.root / "store").glob("*/trials/*")], [])
        return document

    def test_newest(self) -> None:
        """What fails is kept back by the widest bound that passes, what needs it too; the rest is raised."""
        before = self.versions()
        broken = failing("tallywax == (2, 0)", "combframe >= (1, 5)")
        found = self.proven("newest", *broken, code=1)
        self.assertEqual((found["written"], self.versions()), (False, before))
        self.assertEqual(
            {kept["name"] for kept in found["kept_back"]}, {"combframe", "tallywax", "smokerlog"}
        )
        raised = {change["name"]: change["to"] for change in found["raised"]}
        self.assertEqual(raised.pop("smokerlog"), "1.5")
        self.assertEqual(raised.pop("tallywax"), "1.5")
        self.assertEqual(set(raised.values()), {"2.0"})
        self.assertLessEqual(found["environments"], 3 + 2 * (3 + 3))
        told = self.rabbet("prove", "--newest", "--yes", "--jobs", "3", *broken, code=1).out
        self.assertIn("smokerlog 2.0 is kept back because of tallywax.", told)
        self.assertIn("--limit 'combframe<=1.0' && rabbet declare --limit 'tallywax<2'", told)
        self.assertIn("of them known from before", told)
        self.assertEqual(self.versions(), {**before, **raised, "smokerlog": "1.5", "tallywax": "1.5"})
        self.assertIn("up to date", self.rabbet("resolve").out)
        self.rabbet("recreate")
        self.rabbet("run", *broken[1:])
        self.assertEqual(
            self.proven("newest", "--yes", "--raise", "combframe", "--", "true")["answer"], "all"
        )
        self.assertEqual(self.versions()["combframe"], "2.0")

    def test_one_by_one(self) -> None:
        """Each raise is a commit with a lock that passes; what only passes together comes together."""
        broken = failing("smokerlog == (1, 5)", "combframe == (2, 0)")
        self.rabbet("prove", "--newest", "--one-by-one", "--yes", *broken, code=2)
        for command in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "begun"]):
            self.git(*command)
        for name, value in (("user.name", "a"), ("user.email", "a@b.example")):
            self.git("config", name, value)
        self.rabbet("prove", "--newest", "--one-by-one", "--yes", *broken, code=1)
        log = self.git("log", "--reverse", "--format=%s").splitlines()
        self.assertEqual(len(log), 7)
        self.assertIn("Raise tallywax 1.0 → 2.0", log)
        self.assertEqual(self.git("status", "--porcelain"), "")
        self.assertEqual(self.versions()["smokerlog"], "2.0")
        self.rabbet("resolve", "--lowest", "--keep")
        self.git("commit", "-qam", "low again")
        only_both = failing("broodcount + number(tallywax) in ((2, 0, 1, 0), (1, 0, 2, 0))")
        self.rabbet("prove", "--newest", "--one-by-one", "--yes", *only_both)
        self.assertEqual({*self.versions().values()}, {"2.0"})
        self.assertIn("Raise broodcount 1.0 → 2.0 and 2 more", self.git("log", "-1", "--format=%s"))
        (self.project / "pylock.toml").write_text((self.project / "pylock.toml").read_text() + "\n")
        self.rabbet("prove", "--newest", "--one-by-one", "--yes", "--", "true", code=2)

    def test_bounds(self) -> None:
        """The oldest and newest release that pass; false bounds are corrected, and the lowest go together."""
        self.rabbet("declare", "--exactly", "hivewire<2", "pollencsv>=1.5", "combframe>=1")
        self.rabbet("resolve", "--raise-all")
        broken = failing("combframe < (1, 5)", "broodcount + number(tallywax) == (1, 0, 1, 0)")
        found = self.proven("bounds", *broken, code=1)
        rows = {row["name"]: row for row in found["libraries"]}
        self.assertEqual(rows["combframe"]["proven"], ["combframe>=1.5"])
        ends = {name: (row["lower"], row["upper"]) for name, row in rows.items()}
        self.assertEqual(ends["hivewire"], ("open", "wider"))
        self.assertEqual(ends["pollencsv"], ("wider", "open"))
        self.assertEqual(ends["combframe"][0], "false")
        self.assertTrue(found["lowest_together"])
        self.assertEqual(len(found["raised_for_that"]), 1)
        self.assertEqual([(one["minor"], one["passes"]) for one in found["pythons"]], [("3.11", True)])
        told = self.rabbet("prove", "--bounds", "--yes", *broken, code=1).out
        self.assertIn("rabbet declare --exactly 'combframe>=1.5'", told)
        self.rabbet("resolve", "--lowest", "--keep")
        self.rabbet("recreate")
        self.rabbet("run", *broken[1:])
        self.assertIn("All bounds", self.rabbet("prove", "--bounds", "--only", "hivewire", "--", "true").out)
        lower = self.proven("bounds", "--only", "tallywax", *failing("tallywax == (2, 0)"), code=1)
        self.assertEqual(lower["libraries"][0]["proven"], ["tallywax<2"])

    def test_everywhere(self) -> None:
        """Every variant and Python at both ends; a second run tries nothing again."""
        self.rabbet("declare", "--variant", "old", "combframe<2")
        self.rabbet("resolve", "--raise-all")
        broken = failing("combframe == (1, 0)")
        found = self.proven("everywhere", *broken, code=1)
        self.assertEqual(
            [(row["variant"], row["python"]) for row in found["rows"]], [(None, "3.11"), ("old", "3.11")]
        )
        passes = [[cell["passes"] for cell in row["cells"]] for row in found["rows"]]
        self.assertEqual(passes, [[False, True, True]] * 2)
        again = self.rabbet(
            "prove", "--everywhere", "--page", "all.html", "--picture", "all.png", *broken, code=1
        )
        self.assertRegex(again.out, r"the project +3.11 +fails +passes +passes")
        self.assertRegex(again.out, r"(\d) runs, \1 of them known")
        self.assertIn("the project with Python 3.11", (self.project / "all.html").read_text())
        self.assertTrue((self.project / "all.png").read_bytes().startswith(b"\x89PNG"))
        self.assertEqual(
            self.proven("everywhere", "--variant", "old", "--fresh", "--", "true")["recalled"], 0
        )
        (self.project / "pylock.old.toml").unlink()
        self.assertIn("Not tried: variant old", self.rabbet("prove", "--everywhere", "--", "true").out)

    def test_misbehaving(self) -> None:
        """Commands that always fail, are not there, don't end, write into the project, or lack something."""
        before = self.tree()
        self.assertEqual(self.proven("newest", "--yes", "--", "false", code=1)["answer"], "fails-now")
        self.assertIn(
            "fails with the present lock", self.rabbet("prove", "--bounds", "--", "false", code=1).out
        )
        self.rabbet("prove", "--newest", "--", "no-such-command", code=7)
        self.rabbet("prove", "--bounds", "--", "no-such-command", code=7)
        hanging = self.proven("newest", "--time-limit", "1", "--", "sleep", "60", code=1)
        self.assertEqual(hanging["answer"], "fails-now")
        for words in (
            "",
            "--newest",
            "--newest --only combframe -- true",
            "--bounds --one-by-one -- true",
            "--newest --raise skepio -- true",
            "--newest --jobs 0 -- true",
        ):
            self.rabbet("prove", *words.split(), code=2)
        self.assertEqual(self.tree(), before)
        writing = ["--", "sh", "-c", "echo x >> notes.txt"]
        self.assertEqual(self.proven("newest", "--yes", *writing)["answer"], "all")
        luck = "import random, sys, combframe; sys.exit(combframe.x and random.random() < 0.5)"
        told = self.rabbet("prove", "--newest", "--raise", "combframe", "--", "python", "-c", luck).out
        self.assertIn("Nothing can be raised", told)

    def test_interrupted(self) -> None:
        """Ctrl-C ends the command and leaves nothing but what is known; the next run goes on from there."""
        before = self.tree()
        command = ["--newest", "--", "sh", "-c", "test ! -e ../slow || sleep 600"]
        running = subprocess.Popen(
            self.command("prove", *command), cwd=self.project, env=self.variables, stderr=subprocess.PIPE
        )
        with running:
            assert running.stderr is not None
            for line in running.stderr:
                if b"everything raised" in line and b"trying" in line:
                    Path(self.root / "slow").touch()
                    break
            time.sleep(1)
            running.send_signal(signal.SIGINT)
            self.assertIn(running.wait(PATIENCE), (0, 1, 130))
        self.assertEqual(self.tree(), before)
        (self.root / "slow").unlink()
        self.assertGreaterEqual(self.proven("newest", "--yes", *command[1:])["recalled"], 1)
