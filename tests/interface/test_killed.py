"""Killed at any step, a command leaves what is never taken for whole and what the next run finishes."""

import os
import re
import signal
import subprocess
import sys
from collections.abc import Callable

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from tests.support.program import ProgramCase


class Killing(ProgramCase):
    """Kills commands, where three libraries have two releases each."""

    def setUp(self) -> None:
        super().setUp()
        made = [
            MadeUp(name=name, version=version, code=f"x = '{version}'\n", commands=((name, "x"),))
            for name in ("combframe", "mitewatch", "tallywax")
            for version in ("1.0", "2.0")
        ]
        write_files(self.root / "wheels", made)

    def killed(
        self,
        number: int,
        *arguments: str,
        sent: signal.Signals = signal.SIGKILL,
        code: int = -signal.SIGKILL,
        below: str = "/.venv",
    ) -> list[str]:
        """Kill a run at its Nth change below a folder, or not at all (0); all its changes until then."""
        command = [sys.executable, "-m", "tests.support.killed", sent.name, str(number), below, *arguments]
        done = subprocess.run(
            command,
            cwd=self.project,
            env={**self.variables, "PYTHONPATH": os.pathsep.join(sys.path)},
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, code if number else 0, done.stderr)
        return [line for line in done.stdout.splitlines() if line.startswith(("os.", "open"))]


class Killed(Killing):
    """Back and forth between two locks of three libraries."""

    def setUp(self) -> None:
        super().setUp()
        self.begin("../wheels", "combframe", "mitewatch", "tallywax")
        self.whole = {}
        for options in (["--lowest", "--keep"], ["--raise-all"]):
            self.rabbet("resolve", *options)
            lock = (self.project / "pylock.toml").read_text()
            self.rabbet("recreate")
            self.whole[lock] = self.files()

    def files(self) -> dict[str, bytes]:
        """The content of all files of the environment but its install state, whose order may differ."""
        tree = self.tree()
        own = ("rabbet.json", "rabbet.id")
        return {name: tree[name] for name in tree if "/.venv/" in name and not name.endswith(own)}

    def test_in_place(self) -> None:
        """At each step of the journal, and between them."""
        self.check(r"journal|json|rename", step=6)

    def test_anew(self) -> None:
        """While a new one is made, and at each step of the swap."""
        self.check(r"rename|json", "--fresh", step=12)

    def test_interrupted_swap(self) -> None:
        """Interrupted at the swap, the old environment stays or the new one is there."""
        changes = self.killed(0, "recreate", "--fresh")
        renames = [number for number, change in enumerate(changes) if change.startswith("os.rename")]
        self.assertGreater(len(renames), 2, changes)
        for number in renames:
            with self.subTest(changes[number]):
                self.killed(number + 1, "recreate", "--fresh", sent=signal.SIGINT, code=130)
                self.assertIn(self.files(), self.whole.values())
                self.assertEqual([path.name for path in self.project.glob(".venv?*")], [])

    def check(self, always: str, *options: str, step: int) -> None:
        """Kill at changes that match, and at every so manieth other one."""
        first, second = self.whole
        (self.project / "pylock.toml").write_text(first)
        changes = self.killed(0, "recreate", *options)
        matching = [number for number, change in enumerate(changes) if re.search(always, change)]
        self.assertGreater(len(matching), 2, changes)
        for number in sorted({*matching, *range(0, len(changes), step)}):
            (self.project / "pylock.toml").write_text(second)
            with self.subTest(changes[number]):
                self.killed(number + 1, "recreate", *options)
                told = subprocess.run(
                    self.command("drift"),
                    cwd=self.project,
                    env=self.variables,
                    capture_output=True,
                    check=False,
                )
                self.assertNotEqual(told.returncode, 70, told.stderr)
                self.assertEqual(told.returncode == 0, self.files() == self.whole[second], told.stdout)
                self.rabbet("recreate")
                self.assertEqual(self.files(), self.whole[second])
                self.assertEqual([path.name for path in self.project.glob(".venv?*")], [])
            first, second = second, first


class KilledPlaces(Killing):
    """Places that belong to no folder of their own."""

    def setUp(self) -> None:
        super().setUp()
        self.data = self.root / "data"
        self.variables.update(RABBET_DATA=str(self.data), RABBET_SOURCE=str(self.root / "wheels"))

    def rehearsed(self, undo: Callable[[], object], *command: str, below: str, step: int) -> range:
        """The changes at which a command is to be killed: every so manieth one, once the store is filled."""
        for _ in range(2):
            changes = self.killed(0, *command, below=below)
            undo()
        self.assertGreater(len(changes), 3)
        return range(1, len(changes) + 1, step)

    def test_name(self) -> None:
        """A project with a name is there or not; begun again, or resolved, it is whole."""
        begin = ("begin", "--named", "tries", "mitewatch", "--now", "--yes")
        discard = ("envs", "discard", "tries", "--yes")
        for number in self.rehearsed(lambda: self.rabbet(*discard), *begin, below="/data", step=40):
            with self.subTest(number):
                self.killed(number, *begin, below="/data")
                self.rabbet("envs")
                there = (self.data / "named" / "tries" / "pyproject.toml").is_file()
                self.rabbet(*(("resolve", "--now", "--in", "tries") if there else begin))
                self.rabbet("run", "--in", "tries", "python", "-c", "import mitewatch")
                self.killed(2 + number % 5, *discard, below="/data")
                self.rabbet("envs")
                if (self.data / "named" / "tries").exists():
                    self.rabbet(*discard)
                self.assertEqual(list((self.data / "named").iterdir()), [])

    def test_script(self) -> None:
        """A script holds its text of before or of after, and the next run finishes."""
        script, text = self.project / "report.py", "import mitewatch\n"
        declare = ("declare", "--in", "report.py", "mitewatch<2", "--now")
        script.write_text(text)
        self.rabbet(*declare)
        whole = script.read_text()
        for number in self.rehearsed(lambda: script.write_text(text), *declare, below="report", step=6):
            with self.subTest(number):
                script.write_text(text)
                self.killed(number, *declare, below="report")
                self.assertIn(script.read_text(), (text, whole))
                self.rabbet(*declare)
                self.assertEqual(script.read_text(), whole)
                self.rabbet("run", "report.py")

    def test_lending(self) -> None:
        """What is lent starts, or is not lent; what was left behind goes with it."""
        lend, back = ("lend", "mitewatch<2"), ("lend", "--back", "mitewatch")
        lent = self.root / "home" / ".local" / "bin" / "mitewatch"
        for number in self.rehearsed(lambda: self.rabbet(*back), *lend, below="/", step=60):
            with self.subTest(number):
                self.killed(number, *lend, below="/")
                known = self.rabbet("lend", "--json").json()["lent"]
                if not known:
                    self.rabbet(*lend)
                self.assertEqual(subprocess.run([lent], check=False).returncode, 1)  # it exits with a version
                self.killed(3, *back, below="/data")
                if self.rabbet("lend", "--json").json()["lent"]:
                    self.rabbet(*back)
                self.assertFalse(lent.exists())
                self.assertEqual(list((self.data / "lent").iterdir()), [])
