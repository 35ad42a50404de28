"""Killed at any step, `recreate` leaves what is never taken for whole and what the next run finishes."""

import os
import re
import signal
import subprocess
import sys

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from tests.support.program import ProgramCase


class Killed(ProgramCase):
    """Back and forth between two locks of three libraries."""

    def setUp(self) -> None:
        super().setUp()
        made = [
            MadeUp(name=name, version=version, code=f"x = '{version}'\n", commands=((name, "x"),))
            for name in ("combframe", "mitewatch", "tallywax")
            for version in ("1.0", "2.0")
        ]
        write_files(self.root / "wheels", made)
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

    def killed(
        self, number: int, *arguments: str, sent: signal.Signals = signal.SIGKILL, code: int = -signal.SIGKILL
    ) -> list[str]:
        """Kill a run at its Nth change to the environment, or not at all (0); all its changes until then."""
        command = [sys.executable, "-m", "tests.support.killed", sent.name, str(number), "/.venv", *arguments]
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
