"""Each failure that a user, a file or a source can cause: one clear error, its exit code, nothing changed."""

import os
import shlex
import shutil
import signal
import subprocess
import time
import tomllib
import unittest
from pathlib import Path

from rabbet.demo.stand_in import Fault, Manner, StandIn
from tests.support.program import ProgramCase

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "bad_input.toml").read_text())
WHEEL = "/files/nectarplot-2.1-py3-none-any.whl"
# Root may write everywhere, unless it gives up the capability for that.
UNPRIVILEGED = ["setpriv", "--bounding-set", "-dac_override"] if os.geteuid() == 0 else []


class BadInput(ProgramCase):
    """The table in `data/bad_input.toml`."""

    def test_cases(self) -> None:
        for case in TABLE["case"]:
            with self.subTest(case["title"]):
                self.setUp()
                manner = Manner()
                index = self.serve(StandIn(manner=manner))
                self.prepare(case, index.address)
                manner.faults.update({path: Fault[name] for path, name in case.get("faults", {}).items()})
                before = self.tree()
                done = self.rabbet(*shlex.split(case["command"]), code=case["code"])
                self.assertEqual(done.out, "")
                for word in case["words"]:
                    self.assertIn(word, done.err)
                self.assertEqual(sum(line.startswith("error: ") for line in done.err.splitlines()), 1)
                self.assertEqual(self.tree(), before)

    def prepare(self, case: dict, address: str) -> None:
        """Write the declaration and, where the case has one, the lock; then spoil them."""
        texts = {"declaration": self.project / "pyproject.toml", "lock": self.project / "pylock.toml"}
        texts["declaration"].write_text(TABLE["declaration"].replace("ADDRESS", address))
        if "lock" in case:
            self.rabbet("resolve")
        template = TABLE["declaration"]
        for key in ("declaration", "lock"):
            old, new = case.get(key, ("", ""))
            if old:
                text = template if key == "declaration" else texts[key].read_text()
                texts[key].write_text(text.replace(old, new).replace("ADDRESS", address))
        if case["title"] == "no declaration":
            texts["declaration"].unlink()

    def test_no_source(self) -> None:
        """Where no source is known, the error tells all three ways to name one."""
        (self.project / "pyproject.toml").write_text('[project]\nname = "x"\ndependencies = ["skepio"]\n')
        error = self.rabbet("resolve", code=5).err
        for word in ("[[tool.rabbet.sources]]", "RABBET_SOURCE", "settings.toml", "rabbet begin --source"):
            self.assertIn(word, error)

    @unittest.skipIf(UNPRIVILEGED and not shutil.which("setpriv"), "root can't give up writing anywhere")
    def test_project_without_permission(self) -> None:
        """A project folder that can't be written to gives one error, and stays as it was."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        self.rabbet("resolve")
        self.rabbet("declare", "nectarplot>=2")
        self.project.chmod(0o555)
        self.addCleanup(self.project.chmod, 0o755)
        before = self.tree()
        for command in (["declare", "skepio"], ["resolve"], ["recreate"]):
            with self.subTest(command=command):
                done = self.rabbet(*command, code=7, before=UNPRIVILEGED)
                self.assertIn("can't be written", done.err)
                self.assertEqual(self.tree(), before)

    def test_full_disk(self) -> None:
        """When nothing more can be written, old files stay as they were."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("resolve")
        before = self.tree()
        full = ["prlimit", "--fsize=0"]
        for command in (["declare", "skepio"], ["recreate"]):
            with self.subTest(command=command):
                done = self.rabbet(*command, code=7, before=full)
                self.assertIn("can't be written", done.err)
                self.assertEqual(self.tree(), before)


class Interrupted(ProgramCase):
    """Ctrl-C in the middle, and many at once."""

    def test_interrupt(self) -> None:
        """Interrupted while a wheel arrives: exit 130 at once, nothing changed, and the next run finishes."""
        manner = Manner()
        index = self.serve(StandIn(manner=manner))
        self.begin(index.address, "nectarplot>=2")
        self.rabbet("resolve")
        manner.faults[WHEEL] = Fault.SLOW
        before = self.tree()
        process = subprocess.Popen(
            self.command("recreate"), cwd=self.project, env=self.variables, stderr=subprocess.PIPE, text=True
        )
        deadline = time.monotonic() + 30
        while f"GET {WHEEL}" not in index.requests and time.monotonic() < deadline:
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        _, error = process.communicate(timeout=30)
        self.assertEqual(process.returncode, 130)
        self.assertIn("error: interrupted", error)
        self.assertEqual(self.tree(), before)
        manner.faults.clear()
        self.rabbet("recreate")
        self.assertIn("No drift", self.rabbet("drift").out)

    def test_many_at_once(self) -> None:
        """Several runs on one empty project and store all succeed, and leave one whole environment."""
        self.begin(self.serve(StandIn()).address, "royaljelly", "mitewatch")
        self.rabbet("resolve")
        runs = [
            subprocess.Popen(
                self.command("recreate", "--quiet"),
                cwd=self.project,
                env=self.variables,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.PIPE,
                text=True,
            )
            for _ in range(6)
        ]
        self.assertEqual([(run.communicate(timeout=120)[1], run.returncode) for run in runs], [("", 0)] * 6)
        self.assertIn("No drift", self.rabbet("drift").out)
        self.assertEqual([path.name for path in self.project.glob(".venv*")], [".venv"])
