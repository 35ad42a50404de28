"""Runtimes of other languages than Python in one project: declared, locked, linked, missed."""

import os
import shutil
import subprocess
import tomllib

from rabbet.demo.stand_in import StandIn
from tests.support.languages import install, know_languages
from tests.support.program import Outcome, ProgramCase


class Languages(ProgramCase):
    """A project that needs `hum`, which needs `waggle`."""

    def fresh(self) -> None:
        super().fresh()
        self.home = self.root / "home"
        know_languages(self.home)
        self.old, self.new = (install(self.home, "waggle", version) for version in ("1.4", "2.1"))
        install(self.home, "hum", "0.9")
        self.begin(self.serve(StandIn()).address, "nectarplot")

    def waggle(self, *options: str) -> Outcome:
        return self.rabbet("run", *options, "--", "waggle", "--version")

    def test_culprit(self) -> None:
        """A lock without its declaration is tried with its own runtimes, whatever is declared today."""
        self.rabbet("declare", "--runtime", "waggle<2")
        self.rabbet("resolve")
        (self.project / "pylock.toml").rename(self.project / "good.toml")
        self.rabbet("declare", "--exactly", "--runtime", "waggle>=2")
        self.rabbet("resolve")
        command = ("sh", "-c", "waggle --version | grep -q '^waggle 1[.]4 '")
        told = self.rabbet("culprit", "--good", "good.toml", "--", *command).out
        self.assertRegex(told, r"waggle +1\.4 +2\.1")

    def test_variants(self) -> None:
        """A variant's language stands in for the project's; without one it has the project's."""
        self.rabbet("declare", "--runtime", "waggle<2")
        self.rabbet("declare", "--variant", "tool", "skepio", "--runtime", "waggle>=2")
        self.rabbet("declare", "--variant", "plain", "skepio")
        self.assertIn(
            "buzz",
            self.rabbet("declare", "--variant", "tool", "--runtime", "buzz", code=3).err,
        )
        self.rabbet("resolve")
        for variant, version in (("tool", "2.1"), ("plain", "1.4"), ("", "1.4")):
            options = ["--variant", variant] if variant else []
            self.rabbet("recreate", *options)
            self.assertIn(f"waggle {version}", self.waggle(*options).out)
            self.rabbet("drift", *options)
        self.assertRegex(self.rabbet("declare").out, "(?m)^variant tool +waggle>=2$")
        self.rabbet("retract", "--variant", "tool", "--runtime", "waggle")
        self.rabbet("resolve")
        self.rabbet("recreate", "--variant", "tool")
        self.assertIn("waggle 1.4", self.waggle("--variant", "tool").out)

    def runtimes(self) -> dict[str, str]:
        """The languages and versions of the lock, without Python's."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        entries = lock["tool"]["rabbet"]["runtimes"]
        return {entry["language"]: entry["version"] for entry in entries if entry["language"] != "python"}

    def test_story(self) -> None:
        """What is needed by another runtime comes along; programs and variables are there inside."""
        self.rabbet("declare", "--runtime", "hum>=0.5", "--runtime", "python>=3.11")
        done = self.rabbet("resolve")
        self.assertRegex(done.out, r"runtime waggle +2\.1")
        self.assertEqual(self.runtimes(), {"hum": "0.9", "waggle": "2.1"})
        self.rabbet("recreate")
        self.assertEqual(self.waggle().out, f"waggle 2.1 of apiary, home [{self.new.parent.parent}]\n")
        self.assertTrue((self.project / ".venv" / "bin" / "waggle-debug").is_symlink())
        self.assertEqual(
            self.waggle("--under", "waggle<2").out, f"waggle 1.4 of apiary, home [{self.old.parent.parent}]\n"
        )
        self.rabbet("drift")
        self.assertIn("hum 0.9 needs waggle>=2", self.rabbet("explain", "waggle").out)
        self.assertEqual(self.rabbet("explain", "hum", "--json").json()["newest"], "0.9")
        python = self.rabbet("explain", "python", "--json").json()
        self.assertEqual(python["asked"], ["hivescale needs python>=3.11"])
        self.assertEqual(self.steps(), [])
        found = self.rabbet("runtimes", "--only", "waggle", "hum", "--json").json()
        told = [(runtime["version"], runtime["chosen"], runtime["projects"]) for runtime in found["runtimes"]]
        self.assertEqual(
            told, [("0.9", True, ["hivescale"]), ("2.1", True, ["hivescale"]), ("1.4", False, [])]
        )

    def test_shells(self) -> None:
        """Entering sets the variables, and leaving puts back what they were."""
        self.rabbet("declare", "--runtime", "waggle", "--now")
        lines = '. .venv/bin/enter.sh; waggle; leave; echo "$WAGGLE_HOME"'
        for shell, source in (("bash", "enter.sh"), ("zsh", "enter.sh"), ("fish", "enter.fish")):
            if shutil.which(shell):
                with self.subTest(shell):
                    done = self.run_in([shell, "-c", lines.replace("enter.sh", source)], WAGGLE_HOME="/hive")
                    self.assertEqual(done, f"waggle 2.1 of apiary, home [{self.new.parent.parent}]\n/hive\n")

    def run_in(self, command: list[str], **variables: str) -> str:
        done = subprocess.run(
            command,
            cwd=self.project,
            env={**self.variables, **variables},
            capture_output=True,
            text=True,
            check=True,
        )
        return done.stdout

    def waggle_found(self) -> tuple[str, str, str]:
        """The finding on `waggle`: locked, installed, weight."""
        finding = self.findings(code=0)["runtime", "waggle"]
        return finding["locked"], finding["installed"], finding["weight"]

    def test_upgraded_and_removed(self) -> None:
        """What becomes of a runtime between two commands is told, and mended where it can be."""
        self.rabbet("declare", "--runtime", "waggle>=2", "--now")
        with self.subTest("a newer one beside it: the locked one stays"):
            newer = install(self.home, "waggle", "2.2")
            self.assertEqual(self.steps(), [])
        with self.subTest("the locked one is gone: the newer one is allowed, and noted"):
            shutil.rmtree(self.new.parent.parent)
            self.assertIn(("runtime", "waggle"), self.findings())
            self.assertIn("does not fit", self.rabbet("run", "waggle", code=7).err)
            self.rabbet("recreate")
            self.assertIn("waggle 2.2", self.waggle().out)
            self.assertEqual(self.waggle_found(), ("2.1", "2.2", "note"))
        with self.subTest("upgraded in its place"):
            install(self.home, "waggle", "2.3", folder="waggle-2.2")
            self.assertEqual(self.waggle_found(), ("2.1", "2.3", "note"))
        with self.subTest("none is left that is allowed"):
            shutil.rmtree(newer.parent.parent)
            before = self.tree()
            error = self.rabbet("recreate", code=7).err
            self.assertIn("waggle>=2", error)
            self.assertIn("waggle (apiary) 1.4", error)
            self.assertEqual(self.tree(), before)
            self.assertEqual(self.findings()["runtime", "waggle"]["breaks"], ["hivescale"])
            self.assertIn("Missing", self.rabbet("runtimes", code=1).out)
        with self.subTest("no longer declared"):
            self.rabbet("retract", "--runtime", "waggle", "--now")
            self.assertFalse(os.path.lexists(self.project / ".venv" / "bin" / "waggle"))

    def test_resolving(self) -> None:
        """Locked runtimes stay, also where this machine lacks them, until they are raised or not allowed."""
        text = (self.project / "pyproject.toml").read_text()
        both = {"waggle": "2.1", "hum": "0.9"}
        for declared, options, expected, code in (
            ('waggle = "1.4"', [], {"waggle": "1.4"}, 0),
            ('waggle = ">=1"', [], {"waggle": "1.4"}, 0),
            ('waggle = ">=1"', ["--raise", "waggle"], {"waggle": "2.1"}, 0),
            ('waggle = "<2"', [], {"waggle": "1.4"}, 0),
            ('waggle = "<2"\nhum = ""', [], {"waggle": "1.4"}, 4),  # hum needs a newer one
            ('waggle = "<2"\nhum = { needs = { waggle = "1" } }', [], {"waggle": "1.4", "hum": "0.9"}, 0),
            ('hum = ""', [], both, 0),
            ('waggle = ">=3"', [], both, 7),
            ('waggel = ">=3"', [], both, 3),
            ('waggle = "two"', [], both, 3),
        ):
            with self.subTest(declared, options=options):
                table = f"\n[tool.rabbet.runtimes]\n{declared}\n"
                (self.project / "pyproject.toml").write_text(text + table)
                self.rabbet("resolve", *options, code=code)
                self.assertEqual(self.runtimes(), expected)
        with self.subTest("a locked one that is gone"):
            (self.project / "pyproject.toml").write_text(text + '\n[tool.rabbet.runtimes]\nhum = ">=0"\n')
            shutil.rmtree(self.new.parent.parent)
            self.rabbet("resolve")
            self.assertEqual(self.runtimes(), both)

    def test_distributor(self) -> None:
        """A runtime of one distributor is asked for, and others are no answer."""
        install(self.home, "waggle", "2.1", "meadow", folder="meadow")
        text = (self.project / "pyproject.toml").read_text()
        for distributor, code in (("meadow", 0), ("cellar", 7)):
            entry = (
                f'\n[tool.rabbet.runtimes]\nwaggle = {{ version = ">=2", distributor = "{distributor}" }}\n'
            )
            (self.project / "pyproject.toml").write_text(text + entry)
            self.rabbet("resolve", code=code)
        (self.project / "pyproject.toml").write_text(text + entry.replace("cellar", "meadow"))
        self.rabbet("recreate")
        self.assertIn("of meadow", self.waggle().out)
        self.rabbet("declare", "--runtime", "waggle 2.1")
        self.assertIn('distributor = "meadow"', (self.project / "pyproject.toml").read_text())

    def test_used_before(self) -> None:
        """What an environment once used is found whatever `PATH` says, unless a project holds it."""
        far = self.root / "far" / "away" / "bin"
        far.mkdir(parents=True)
        for program in (self.new.parent).iterdir():
            shutil.move(program, far / program.name)
        path = {"PATH": f"{far}:{self.variables['PATH']}"}
        self.rabbet("declare", "--runtime", "waggle>=2")
        self.assertIn("no runtime on this machine is waggle>=2", self.rabbet("resolve", code=7).err)
        self.rabbet("resolve", **path)
        self.assertIn("waggle", self.rabbet("recreate", code=7).err)
        self.rabbet("recreate", **path)
        self.assertIn(f"home [{far.parent}]", self.waggle().out)
        shutil.rmtree(self.project / ".venv")
        self.rabbet("recreate")
        self.assertIn(f"home [{far.parent}]", self.waggle().out)
        (far.parent / "pyproject.toml").touch()
        shutil.rmtree(self.project / ".venv")
        self.rabbet("recreate", code=7)

    def test_same_place(self) -> None:
        """A library with a command of a runtime's name can't be installed beside it."""
        self.rabbet("declare", "mitewatch", "--runtime", "waggle", "--now")
        before = self.tree("pyproject.toml", "pylock.toml")
        shutil.copy(self.new, self.new.parent / "mitewatch")
        error = self.rabbet("recreate", "--fresh", code=6).err
        self.assertIn("mitewatch and runtime waggle", error)
        self.assertEqual(self.tree("pyproject.toml", "pylock.toml"), before)

    def test_default_of_the_home_folder(self) -> None:
        """The nearest declaration upwards counts, so one in the home folder is everybody's default."""
        (self.home / "pyproject.toml").write_text(
            '[project]\nname = "home"\nrequires-python = ">=3.11"\n[tool.rabbet.runtimes]\nwaggle = "1.4"\n'
        )
        folder = self.home / "notes"
        folder.mkdir()
        self.rabbet("resolve", folder=folder)
        self.rabbet("recreate", folder=folder)
        self.assertIn("waggle 1.4", self.rabbet("run", "waggle", folder=folder).out)
        found = self.rabbet("runtimes", "--json", folder=folder).json()
        self.assertEqual(found["declaration"], str(self.home / "pyproject.toml"))
