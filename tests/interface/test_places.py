"""Places: projects that have a name, and single scripts, from whatever folder."""

import re
import shlex
import subprocess
import sys
from pathlib import Path

from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

REPORT = """#!/usr/bin/env -S rabbet run
# /// script
# requires-python = ">=3.8"
# dependencies = ["nectarplot<2"]  # the old one
# ///
import sys, nectarplot
print(nectarplot.__version__, sys.argv)
sys.exit(int(sys.argv[1]))
"""
REFUSED = [
    # script, told
    ("# /// script\n# dependencies = [\n# ///\n", "report.py is not valid TOML"),
    ("# /// script\n# x = 1\n", "the script metadata of report.py is never closed"),
    ("# /// script\n# x = 1\n# ///\n", "project.x: is not known here"),
    ("# /// script\n# dependencies = ['']\n# ///\n", "project.dependencies"),
    ("# /// script\n# x = 1\n# ///\n\0", "report.py is not a text"),
    ("# /// script\n# dependencies = []  # \udcff\n# ///\n", "is not UTF-8"),
    ("# /// script\n" + "#\n" * 1_500_000 + "# ///\n", "report.py can't be read"),
]
NAMES = ["Scratch", "a/b", "../a", ".", "a b", "é", "x" * 65, "-a", "a-", "report.py", "~"]


class Places(ProgramCase):
    """Stories."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.variables["RABBET_DATA"] = str(self.root / "data")
        self.variables["RABBET_SOURCE"] = self.index.address
        self.script = self.project / "report.py"

    def files(self) -> list[str]:
        """What lies in the current folder."""
        return sorted(path.name for path in self.project.iterdir())

    def test_name(self) -> None:
        """A project that lies in no folder works from everywhere, is listed, renamed and removed."""
        self.rabbet("begin", "--named", "scratch", "nectarplot<2", "--now", "--yes")
        self.assertEqual(self.tree(), {})
        found = self.rabbet("declare", "--in", "scratch", "skepio", "--now").out
        self.assertIn("Changed .venv to match the lock: 2 added", found)
        done = self.rabbet(
            "run", "--in", "scratch", "python", "-c", "import skepio, nectarplot; print('gold')"
        )
        self.assertEqual(done.out, "gold\n")
        self.assertIn("Next: rabbet run --in scratch COMMAND", self.rabbet("status", "--in", "scratch").out)
        self.assertEqual(self.rabbet("drift", "--in", "scratch", "--json").json()["findings"], [])
        self.assertEqual(self.completed("rabbet drift --in s"), ["scratch"])
        self.assertEqual(self.completed("rabbet explain --in scratch sk"), ["skepio"])
        self.rabbet("envs", "rename", "scratch", "tries")
        self.rabbet("begin", "--named", "other", "--yes")
        self.assertIn("already", self.rabbet("envs", "rename", "other", "tries", code=2).err)
        self.assertEqual(self.rabbet("run", "--in", "tries", "python", "-c", "import skepio").out, "")
        rows = self.rabbet("envs", "--json").json()["environments"]
        self.assertEqual([row["place"] for row in rows], ["tries", "other"])
        self.assertIn("rabbet envs discard tries --yes", self.rabbet("envs", "discard", "tries", code=1).out)
        self.rabbet("envs", "discard", "tries", "other", "--yes")
        self.assertEqual(self.rabbet("envs", "--json").json()["environments"], [])

    def test_what_a_name_can_be(self) -> None:
        for name in NAMES:
            with self.subTest(name):
                self.rabbet("begin", "--named", name, "--yes", code=2)
        self.rabbet("begin", "--named", "scratch", "--yes")
        near = self.rabbet("status", "--in", "scrach", code=2).err
        self.assertIn("try     rabbet status --in scratch", near)
        (self.project / "scratch").mkdir()
        self.assertIn("and a folder here", self.rabbet("status", "--in", "scratch", code=2).err)

    def test_begun_in_vain(self) -> None:
        """What can't be locked is not there afterwards; what takes a lock over has its versions."""
        self.rabbet("begin", "--named", "scratch", "skepio>99", "--now", "--yes", code=4)
        self.rabbet("status", "--in", "scratch", code=2)
        self.begin(self.index.address, "nectarplot<2")
        self.rabbet("resolve")
        self.rabbet("begin", "--named", "scratch", "--from", "pylock.toml")
        self.rabbet("resolve", "--in", "scratch")
        locked = self.rabbet("explain", "--in", "scratch", "nectarplot").out
        self.assertIn("nectarplot 1.", locked)

    def test_begun_from(self) -> None:
        """Another project's requirements and sources, and more beside them; or nothing, if that fails."""
        self.variables.pop("RABBET_SOURCE")
        self.rabbet("begin", "--name", "combs", "--source", self.index.address, "nectarplot<2")
        begin = ("begin", "--named", "scratch", "--from", ".", "--now")
        told = self.rabbet(*begin, "skepio>9", code=4).err
        self.assertEqual(list((self.root / "data" / "named").iterdir()), [])
        ways = re.findall(r"^  (?:try|or ) +rabbet (.*)$", told, re.MULTILINE)
        self.assertIn("begin --named scratch --from . --now", ways)
        self.assertIn("begin --named scratch --from . 'skepio>9'", ways)
        self.rabbet(*shlex.split(ways[0]))
        self.rabbet("run", "--in", "scratch", "python", "-c", "import skepio, nectarplot")
        self.assertIn("rabbet adopt --in scratch --from .", self.rabbet(*begin, code=2).err)
        told = self.rabbet(
            "declare", "--in", "scratch", "--source", self.index.address, "mitewatch", code=2
        ).err
        self.assertIn("rabbet declare --in scratch mitewatch", told)

    def test_folder(self) -> None:
        """A place may be a folder; commands to try name it."""
        self.begin(self.index.address, "nectarplot")
        elsewhere = self.root / "elsewhere"
        elsewhere.mkdir()
        told = self.rabbet("resolve", "--in", str(self.project), folder=elsewhere).out
        self.assertIn(f"Next: rabbet recreate --in {self.project}", told)
        told = self.rabbet("run", "--in", str(self.project), "true", folder=elsewhere, code=7).err
        self.assertIn(f"try     rabbet recreate --in {self.project}", told)

    def test_no_script(self) -> None:
        """A file that is no script is not made one; a declaration stands for its folder."""
        self.begin(self.index.address, "nectarplot")
        for name, content in (("notes.md", "# Notes\n"), ("pylock.toml", ""), ("data", "1\n")):
            (self.project / name).write_text(content)
            self.assertIn("is not a script", self.rabbet("declare", "--in", name, "skepio", code=2).err)
            self.assertEqual((self.project / name).read_text(), content)
        (self.project / "pylock.toml").unlink()
        self.rabbet("resolve", "--in", "pyproject.toml")
        (self.project / "tool").write_text("#!/usr/bin/env python\n")
        self.rabbet("declare", "--in", "tool", "skepio")
        self.assertIn("skepio", (self.project / "tool").read_text())

    def test_script(self) -> None:
        """A script runs with what it declares, its words and its exit code, and leaves nothing beside it."""
        self.script.write_text(REPORT)
        done = self.rabbet("run", "report.py", "3", "a b", code=3)
        self.assertEqual(done.out, f"{done.out.split()[0]} ['report.py', '3', 'a b']\n")
        self.assertTrue(done.out.startswith("1."))
        self.assertEqual(self.files(), ["report.py"])
        self.assertNotIn("Locked", self.rabbet("run", "report.py", "0").err)
        self.script.chmod(0o755)
        path = f"{Path(self.command()[0]).parent}:{self.variables['PATH']}"
        variables = {**self.variables, "PATH": path}
        done = subprocess.run([self.script, "0"], env=variables, capture_output=True, check=False)
        self.assertEqual(done.returncode, 0)
        self.rabbet("declare", "--in", "report.py", "nectarplot>=2", "skepio")
        self.assertEqual(self.script.read_text().replace(', "skepio"', ""), REPORT.replace("<2", ">=2"))
        self.assertTrue(self.rabbet("run", "report.py", "0").out.startswith("2."))

    def test_lock_beside(self) -> None:
        """A lock beside a script counts from then on, and moves only when it is resolved."""
        self.script.write_text(REPORT)
        self.rabbet("run", "report.py", "0")
        self.rabbet("resolve", "--in", "report.py", "--verify")
        self.assertEqual(self.files(), ["report.py"])
        self.rabbet("resolve", "--in", "report.py")
        self.assertEqual(self.files(), ["pylock.report.toml", "report.py"])
        locked = (self.project / "pylock.report.toml").read_bytes()
        self.rabbet("run", "report.py", "0")
        self.rabbet("drift", "--in", "report.py")
        self.script.write_text(REPORT.replace("<2", ""))
        told = self.rabbet("run", "report.py", "0", code=7).err
        self.assertIn("pylock.report.toml is out of date", told)
        self.assertIn("try     rabbet resolve --in report.py", told)
        self.assertEqual((self.project / "pylock.report.toml").read_bytes(), locked)
        self.rabbet("resolve", "--in", "report.py", "--raise-all")
        self.assertTrue(self.rabbet("run", "report.py", "0").out.startswith("2."))

    def test_folder_for_a_friend(self) -> None:
        """A script in a folder with all that it needs runs where there is no network and no store."""
        self.script.write_text(REPORT)
        friend = self.root / "friend"
        self.rabbet("export", "script", "report.py", code=2)
        self.begin(self.index.address)
        self.assertIn("rabbet carry", self.rabbet("export", "script", "--in", ".", "--to", "x", code=2).err)
        self.rabbet("export", "script", "report.py", "--to", str(friend))
        names = sorted(path.name for path in friend.iterdir())
        self.assertEqual(names, ["carried", "pylock.report.toml", "report.py", "run.py"])
        there = {
            **self.variables,
            "RABBET_STORE": str(self.root / "other"),
            "RABBET_DATA": str(self.root / "d"),
        }
        there["RABBET_SOURCE"] = "http://127.0.0.1:9/"
        done = subprocess.run(
            [sys.executable, friend / "run.py", "4", "a b"],
            cwd="/",
            env=there,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 4, done.stderr)
        self.assertRegex(done.stdout, r"^1\..*'4', 'a b'\]\n$")

    def test_metadata_drawn_up(self) -> None:
        """What a script imports is found by its name at the source, and shown before it is written."""
        text = "import os, nectarplot, nothing_like_it\nprint('gold')\n"
        self.script.write_text(text)
        self.assertIn("rabbet adopt --in report.py", self.rabbet("run", "report.py", code=2).err)
        self.assertIn("nectarplot", self.rabbet("adopt", "--in", "report.py", "--plan").out)
        self.assertEqual(self.script.read_text(), text)
        self.assertIn("import nothing_like_it", self.rabbet("adopt", "--in", "report.py", "--yes").out)
        self.assertTrue(self.script.read_text().endswith(f"# ///\n\n{text}"))
        findings = (
            self.rabbet("resolve", "--in", "report.py", "--now")
            and self.rabbet("imports", "--in", "report.py", "--json", code=1).json()["findings"]
        )
        self.assertEqual([finding["kind"] for finding in findings], ["absent"])

    def test_refused(self) -> None:
        """A broken block ends in a message; the script stays as it is."""
        for text, told in REFUSED:
            with self.subTest(told):
                self.script.write_text(text, errors="surrogateescape")
                self.assertIn(told, self.rabbet("declare", "--in", "report.py", "skepio", code=3).err)
                self.assertEqual(self.script.read_text(errors="surrogateescape"), text)
        self.script.write_text(REPORT)
        self.rabbet("recreate", "--in", "report.py", "--variant", "all", code=2)
        for given in (
            ["--group", "dev", "skepio"],
            ["--local", "skepio", "."],
            ["--build-from-source", "skepio"],
        ):
            self.assertIn("single script", self.rabbet("declare", "--in", "report.py", *given, code=2).err)
        self.assertEqual(self.script.read_text(), REPORT)

    def test_many_at_once(self) -> None:
        """Twenty scripts at once on an empty store, some of them the same."""
        for number in range(7):
            (self.project / f"report{number}.py").write_text(REPORT)
        running = [
            subprocess.Popen(
                [*self.command("run"), f"report{number % 7}.py", "0"],
                cwd=self.project,
                env=self.variables,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                text=True,
            )
            for number in range(20)
        ]
        for process in running:
            out, err = process.communicate()
            self.assertEqual(process.returncode, 0, err)
            self.assertRegex(out, r"^1\.")
        self.assertEqual(len(self.files()), 7)
