"""Lending: commands of libraries in the user's folder for programs."""

import os
import subprocess
from pathlib import Path

from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from tests.support.languages import install, know_languages
from tests.support.program import ProgramCase

TELL = "import sys\ndef tell(): print({!r}, *sys.argv[1:]); return 3\n"
BROKEN = "raise RuntimeError('no wax left')\n"


def release(version: str, code: str, name: str = "waxtell") -> MadeUp:
    """A release of a library with a command."""
    return MadeUp(name=name, version=version, code=code, commands=(("tell", "tell"),))


class Lending(ProgramCase):
    """Stories."""

    def setUp(self) -> None:
        super().setUp()
        self.programs = self.root / "home" / ".local" / "bin"
        self.variables["RABBET_DATA"] = str(self.root / "data")
        self.offer(release("1.0", TELL.format("one")))

    def offer(self, *releases: MadeUp) -> None:
        """Let an index have these, and libraries without commands."""
        more = release("1.0", TELL.format("other"), "waxother")
        quiet = MadeUp(name="waxquiet", version="1.0", code="x = 1\n")
        self.variables["RABBET_SOURCE"] = self.serve(StandIn([*releases, more, quiet])).address

    def told(self, *words: str, folder: Path | None = None) -> tuple[int, str]:
        """What the lent command ends with, and prints."""
        command = [(folder or self.programs) / "tell", *words]
        done = subprocess.run(command, capture_output=True, text=True, cwd="/", check=False)
        return done.returncode, done.stdout + done.stderr

    def test_story(self) -> None:
        """Lent, listed, raised where that starts, and taken back; arguments and exit codes are its own."""
        found = self.rabbet("lend", "waxtell").out
        self.assertIn("Lent waxtell 1.0: tell in", found)
        self.assertIn("is not on PATH", found)
        self.assertEqual(self.told("a b"), (3, "one a b\n"))
        self.assertIn("rabbet lend --raise waxtell", self.rabbet("lend", "waxtell", code=2).err)
        self.offer(release("1.0", TELL.format("one")), release("2.0", TELL.format("two")))
        self.assertIsNone(self.rabbet("lend", "--json").json()["lent"][0]["newer"])
        self.rabbet("begin", "--named", "tries", "waxtell<2", "--now", "--yes")
        self.assertIn("2.0 is known: rabbet lend --raise waxtell", self.rabbet("lend").out)
        self.rabbet("envs", "discard", "tries", "--yes")
        self.rabbet("lend", "--raise")
        self.assertEqual(self.told(), (3, "two\n"))
        self.offer(release("2.0", TELL.format("two")), release("3.0", BROKEN))
        kept = self.rabbet("lend", "--raise", "waxtell", "--json", code=1).json()["raised"][0]
        self.assertEqual((kept["before"], kept["after"]), ("2.0", "2.0"))
        self.assertIn("no wax left", kept["kept"])
        self.assertEqual(self.told(), (3, "two\n"))
        self.rabbet("lend", "--back", "waxtell")
        self.assertEqual(list(self.programs.iterdir()), [])
        self.assertEqual(self.rabbet("lend", "--json").json()["lent"], [])
        self.assertEqual(self.rabbet("envs", "--json").json()["environments"], [])
        self.rabbet("lend", "--back", "waxtell", code=2)

    def test_refused(self) -> None:
        """Programs of others stay, and what can't be lent leaves nothing behind."""
        self.rabbet("lend", "waxquiet", code=7)
        self.rabbet("lend", "nothing-like-it", code=4)
        self.programs.mkdir(parents=True)
        theirs = self.programs / "tell"
        for content in ("#!/bin/sh\n", ""):
            theirs.write_text(content)
            self.rabbet("lend", "waxtell", code=7)
            self.assertEqual(theirs.read_text(), content)
        theirs.unlink()
        theirs.symlink_to("/nowhere")
        self.rabbet("lend", "waxtell", code=7)
        theirs.unlink()
        self.assertEqual(self.rabbet("lend", "--json").json()["lent"], [])
        self.assertEqual(list((self.root / "data" / "lent").iterdir()), [])
        self.rabbet("lend", "waxtell")
        self.assertIn("is lent from waxtell", self.rabbet("lend", "waxother", code=7).err)
        self.rabbet("lend", "waxother", "--to", str(self.root / "bin"))
        self.assertEqual(self.told(folder=self.root / "bin"), (3, "other\n"))
        theirs.write_text("mine")
        self.rabbet("lend", "--back", "waxtell")
        self.assertEqual(theirs.read_text(), "mine")

    def test_runtime(self) -> None:
        """A runtime lent to folders outside of environments; inside, what comes behind it on PATH."""
        home = self.root / "home"
        know_languages(home)
        old, new = (install(home, "waggle", version) for version in ("1.4", "2.1"))
        self.assertIn("Lent waggle 1.4: waggle,", self.rabbet("lend", "--runtime", "waggle<2").out)
        path = os.pathsep.join([str(self.programs), self.variables["PATH"]])

        def told(**more: str) -> str:
            command, variables = [self.programs / "waggle", "--version"], {"PATH": path, **more}
            done = subprocess.run(command, capture_output=True, text=True, env=variables, check=False)
            return done.stdout + done.stderr

        self.assertIn("waggle 1.4 ", told())
        found = self.rabbet("runtimes", "--only", "waggle", "--refused", "--json", PATH=path).json()
        programs = {row["executable"] for row in [*found["runtimes"], *found["refused"]]}
        self.assertEqual(programs, {str(old), str(new)})
        self.begin(self.variables["RABBET_SOURCE"])
        self.rabbet("resolve", "--now")
        self.assertIn(
            "rabbet declare --runtime waggle", self.rabbet("run", "waggle", code=127, PATH=path).err
        )
        behind = os.pathsep.join([path, str(new.parent)])
        self.assertIn("waggle 2.1 ", self.rabbet("run", "waggle", "--version", PATH=behind).out)
        self.rabbet("lend", "--runtime", "waggle", "--to", "programs")
        self.assertEqual(list(self.programs.iterdir()), [])
        row = self.rabbet("lend", "--json").json()["lent"][0]
        self.assertEqual((row["runtime"], row["version"], row["program"]), ("waggle", "2.1", str(new)))
        self.programs = self.project / "programs"
        new.unlink()
        self.assertIn("try: rabbet lend --back --runtime waggle", told())
        self.assertIn("its program is gone", self.rabbet("lend").out)
        for words, code in (
            ("--raise --runtime waggle", 2),
            ("waxtell --runtime waggle", 2),
            ("--runtime waggle>3", 7),
            ("--runtime buzz", 3),
        ):
            self.rabbet("lend", *words.split(), code=code)
        self.rabbet("lend", "--back", "--runtime", "waggle")
        self.assertEqual(list(self.programs.iterdir()), [])
        self.rabbet("lend", "--back", "--runtime", "waggle", code=2)

    def test_from_a_place(self) -> None:
        """Commands of an environment that exists; where it is gone, they say so."""
        self.rabbet("begin", "--named", "tries", "waxtell", "--now", "--yes")
        self.rabbet("lend", "--in", "tries", "waxtell")
        self.assertEqual(self.told(), (3, "one\n"))
        self.assertIn(
            "rabbet declare --in tries waxother --now",
            self.rabbet("lend", "--in", "tries", "waxother", code=7).err,
        )
        self.rabbet("envs", "discard", "tries", "--yes")
        code, text = self.told()
        self.assertEqual(code, 127)
        self.assertIn("try: rabbet lend --back waxtell", text)
        self.rabbet("lend", "--back", "waxtell")
        self.assertEqual(list(self.programs.iterdir()), [])
