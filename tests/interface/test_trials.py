"""Trying a library for one command: what comes of it, and that nothing stays."""

import signal
import subprocess
import time
from pathlib import Path

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.program import ProgramCase

SHOW = (
    "import importlib.metadata as m; print(sorted(d.metadata['Name'] + d.version for d in m.distributions()))"
)


class Trials(ProgramCase):
    """On an environment with `combframe` and what it needs."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.begin(self.index.address, "combframe==2.0", "mitewatch")
        (self.project / "beside.py").write_text("kind = 'beside'\n")
        self.rabbet("resolve")
        self.rabbet("recreate")

    def left(self) -> list[Path]:
        """What trials left in the store."""
        return [*(self.root / "store").glob("*/trials/*"), *(self.root / "store").glob("*/building/*")]

    def test_one_more(self) -> None:
        """The library is there for the command, all else is as it is, and stays so."""
        before = self.tree()
        for _ in range(2):  # worked out, then as it was worked out
            done = self.rabbet("run", "--try", "pollencsv<1.2", "--", "python", "-c", SHOW)
            self.assertIn("'pollencsv1.1'", done.out)
            self.assertIn("'combframe2.0'", done.out)
            self.assertIn("for this once: pollencsv 1.1", done.err)
            self.assertIn("everything locked", done.err)
            self.assertIn("to keep it: rabbet declare 'pollencsv<1.2' --now", done.err)
        self.rabbet("drift")
        self.assertEqual(self.tree(), before)
        self.assertEqual(self.left(), [])
        self.assertNotIn("pollencsv", self.rabbet("run", "python", "-c", SHOW).out)

    def test_commands(self) -> None:
        """Commands of the environment run with the library too; modules beside it are found."""
        code = "import beside, pollencsv, sys; print(beside.kind, sys.prefix)"
        done = self.rabbet(
            "run", "--try", "pollencsv", "--", "sh", "-c", f'cd / && python -c "{code}" && mitewatch'
        )
        self.assertIn("beside ", done.out)
        self.assertIn("mitewatch: ", done.out)
        self.rabbet("run", "--try", "pollencsv", "--", "sh", "-c", "exit 3", code=3)
        self.rabbet("run", "--try", "pollencsv", "--", "nothing-like-that", code=7)
        self.assertEqual(self.left(), [])

    def test_other_releases(self) -> None:
        """Where something locked has to move, the trial has everything, and says so."""
        for _ in range(2):
            done = self.rabbet(
                "run", "--try", "combframe>=2.1", "--as-is", "--", "python", "-c", SHOW, code=4
            )
            self.assertIn("hivescale needs combframe==2.0", done.err)
            done = self.rabbet("run", "--try", "smokerlog<2", "--", "python", "-c", SHOW)
            self.assertIn("'smokerlog1.1'", done.out)
            self.assertNotIn("smokerlog2.0", done.out)
            self.assertIn("smokerlog 1.1 in place of 2.0", done.err)
        (self.site / "combframe.py").unlink()
        self.rabbet("run", "--try", "pollencsv", "--", "python", "-c", "import combframe, pollencsv, beside")
        done = self.rabbet("run", "--try", "combframe", "--", "true")
        self.assertIn("nothing", done.err)

    def test_unpublished(self) -> None:
        """A wheel, a folder of them, a checkout: none of them published."""
        own = MadeUp(name="swarmdrone", version="0.1", code="x = 1\n")
        write_files(self.root / "files", [own])
        checkout = self.root / "checkout"
        checkout.mkdir()
        (checkout / "pyproject.toml").write_text(
            '[build-system]\nrequires = ["combwright"]\nbuild-backend = "combwright"\n'
            '[project]\nname = "swarmdrone"\nversion = "0.2"\n'
        )
        (checkout / "swarmdrone.py").write_text("x = 1\n")
        wheel = f"../files/{own.filename}"
        for words, version in (
            (["--taken-from", wheel], "0.1"),
            (["--try", "swarmdrone", "--taken-from", "../files"], "0.1"),
            (["--taken-from", "../checkout"], "0.2"),
        ):
            with self.subTest(words):
                done = self.rabbet("run", *words, "--", "python", "-c", "import swarmdrone, combframe")
                self.assertIn(f"for this once: swarmdrone {version}", done.err)
                keeping = done.err.partition("to keep it: rabbet ")[2].strip()
                self.assertIn("swarmdrone", keeping)
        for words, said in (
            (["--taken-from", "../nowhere"], "there is nothing to try in ../nowhere"),
            (["--taken-from", "https://apiary.example/x"], "nothing can be tried from"),
            (["--try", "nobodys"], "no source knows nobodys"),
            (["--taken-from", f"git+{checkout.as_uri()}"], "does not tell which library it holds"),
        ):
            code = 4 if "nobodys" in words else 2
            self.assertIn(said, self.rabbet("run", *words, "--", "true", code=code).err)
        self.assertEqual(self.left(), [])

    def test_killed(self) -> None:
        """What a killed trial left goes with the next one, but not while its command runs."""
        run = subprocess.Popen(
            self.command("run", "--try", "pollencsv", "--", "sh", "-c", "echo there; sleep 3000"),
            cwd=self.project,
            env=self.variables,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )
        self.assertEqual(run.stdout.readline(), b"there\n")
        run.kill()
        run.wait()
        self.rabbet("run", "--try", "pollencsv", "--", "true")
        self.assertEqual(len(self.left()), 2)  # a folder and its lock
        subprocess.run(["pkill", "-KILL", "-s", str(run.pid)], check=True)
        until = time.monotonic() + PATIENCE
        while self.left() and time.monotonic() < until:
            self.rabbet("run", "--try", "pollencsv", "--", "true")
        self.assertEqual(self.left(), [])
        run.stdout.close()
        asked = self.command("run", "--try", "pollencsv", "--", "sh", "-c", "echo there; exec sleep 3000")
        run = subprocess.Popen(
            asked, cwd=self.project, env=self.variables, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL
        )
        self.assertEqual(run.stdout.readline(), b"there\n")
        run.send_signal(signal.SIGTERM)
        self.assertEqual(run.wait(), 128 + signal.SIGTERM)
        run.stdout.close()
        self.assertEqual(self.left(), [])

    def test_shell(self) -> None:
        """A shell gets the library too."""
        shell = self.root / "shell"
        shell.write_text("#!/bin/sh\npython -c 'import pollencsv, combframe; print(pollencsv.__version__)'\n")
        shell.chmod(0o755)
        done = self.rabbet("enter", "--try", "pollencsv<1.2", SHELL=str(shell))
        self.assertIn("1.1", done.out)
        self.assertEqual(self.left(), [])
