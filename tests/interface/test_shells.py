"""In the shell: what is completed, and environments that follow their user."""

import os
import shutil
import subprocess
import tomllib
from pathlib import Path

from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase
from tests.support.shells import HOOKS, SHELLS, paths_on_the_way, typed

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "trust.toml").read_text())
WALK = """\
{source}
cd {project}/below; {hook}
echo "IN=$RABBET_ENVIRONMENT"
python -c 'import pollencsv; print("found", pollencsv.__version__)'
cd {clone}; {hook}
echo "CLONE=$RABBET_ENVIRONMENT"
cd {project}; {hook}
echo "AGAIN=$RABBET_ENVIRONMENT"
cd /; {hook}
echo "OUT=$RABBET_ENVIRONMENT PATH=$PATH"
"""


class Shells(ProgramCase):
    """A project with a lock and an environment."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.begin(self.index.address, "pollencsv")
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("resolve")
        self.rabbet("recreate")

    def completed(self, line: str) -> list[str]:
        """As the base has it; and the index is not asked."""
        asked = len(self.index.requests)
        words = super().completed(line)
        self.assertEqual(len(self.index.requests), asked)
        return words

    def test_completion(self) -> None:
        """Commands, options, and the names that project, lock, store and machine know."""
        for line, expected in (
            ("rabbet cu", ["culprit"]),
            ("rabbet retract p", ["pollencsv"]),
            ("rabbet explain comb", ["combframe"]),
            ("rabbet resolve --raise-", ["--raise-all"]),
            ("rabbet resolve --raise mite", ["mitewatch"]),
            ("rabbet recreate --group c", ["checks"]),
            ("rabbet declare pollencsv==1.", ["pollencsv==1.2", "pollencsv==1.1", "pollencsv==1.0"]),
            ("rabbet declare --target mac", ["macos-arm64", "macos-x86_64"]),
            ("rabbet culprit --good ins", ["installed"]),
            ("rabbet export b", ["bill"]),
            ("rabbet run mite", ["mitewatch"]),
            ("rabbet run -- mite", ["mitewatch"]),
            ("rabbet run --as-is mite", ["mitewatch"]),
            ("rabbet run python py", ["pyproject.toml", "pylock.toml"]),
            ("rabbet culprit --good installed -- mite", ["mitewatch"]),
        ):
            self.assertEqual(sorted(self.completed(line)), sorted(expected), line)
        self.assertEqual(self.completed("rabbet nothing-like-that x"), [])
        for shell in ("bash", "zsh", "fish", "powershell"):
            self.assertIn("rabbet", self.rabbet("completion", shell).out)

    def test_hostile_folders(self) -> None:
        """No shell hangs, nothing runs, and `PATH` holds no relative folder, however folders are called."""
        places = []
        for name in (*TABLE["names"], *TABLE["parting"]):
            place = self.root / "places" / name / "p"
            place.mkdir(parents=True)
            for file in ("pyproject.toml", "pylock.toml"):
                shutil.copy(self.project / file, place)
            self.rabbet("recreate", folder=place)
            places.append(place)
        for kind in TABLE["marks"]:
            place = self.root / "places" / kind
            (place / ".venv").mkdir(parents=True)
            self.put_mark(kind, place / ".venv" / "rabbet.id")
            places.append(place)
        for shell in SHELLS:
            follow = self.root / f"hostile.{shell}"
            follow.write_text(self.rabbet("follow", shell).out)
            with self.subTest(shell):
                for folders in paths_on_the_way(shell, follow, places, self.variables):
                    self.assertTrue(all(folder.startswith("/") for folder in folders), folders)
                self.assertEqual([*self.root.rglob("HERE")], [])

    @staticmethod
    def put_mark(kind: str, mark: Path) -> None:
        """Something that is no environment's name."""
        if kind.startswith("link"):
            mark.symlink_to("/dev/zero" if "zero" in kind else "/etc/passwd")
        elif kind == "pipe":
            os.mkfifo(mark)
        elif kind == "folder":
            mark.mkdir()
        elif kind == "zeros without end":
            with mark.open("wb") as file:
                file.truncate(1 << 36)
        elif kind != "nothing":
            mark.write_text("a" * 10_000_000 if kind == "long line" else "../../x\n")

    def test_hostile_words(self) -> None:
        """What would do something to a terminal is not offered, and what is typed as a path is not run."""
        named = "".join(f'[[packages]]\nname = "{name}"\nversion = "1"\n' for name in ("ok", "o\x1b[2J"))
        (self.project / "pylock.toml").write_text(f'lock-version = "1.0"\n{named}')
        self.assertEqual(self.completed("rabbet explain o"), ["ok"])
        (self.project / "o\x1b]0;title\x07").touch()
        (self.project / "or$(touch HERE)").touch()
        self.assertEqual(self.completed("rabbet export list --to o"), ["or\\$\\(touch\\ HERE\\)"])
        for shell in ("bash", "zsh"):
            own = self.project / "rabbet"
            own.write_text(f"#!/bin/sh\ntouch {self.root}/HERE\n")
            own.chmod(0o755)
            code = self.rabbet("completion", shell).out
            self.assertIn('script="rabbet"', code)
            asked = "COMP_LINE='./rabbet cu' COMP_POINT=11; _python_argcomplete_rabbet ./rabbet"
            subprocess.run(
                ["bash", "-c", f"{code}\n{asked}"], cwd=self.project, env=self.variables, check=False
            )
            self.assertFalse((self.root / "HERE").exists())

    def test_following(self) -> None:
        """In a project's folder and below, and nowhere else; never for what came with a clone."""
        (self.project / "below").mkdir()
        clone = self.root / "clone"
        shutil.copytree(self.project, clone, symlinks=True)
        root = self.project / ".venv"
        for shell in SHELLS:
            place = self.root / f"follow.{shell}"
            place.write_text(self.rabbet("follow", shell).out)
            walk = WALK.format(
                source=f"source {place}", project=self.project, clone=clone, hook=HOOKS.get(shell, "true")
            )
            done = typed(shell, walk.splitlines(), self.variables)
            with self.subTest(shell):
                told = done.stdout.splitlines()
                self.assertEqual(
                    told[:4],
                    [f"IN={root}", "found 1.2", "CLONE=", f"AGAIN={root}"],
                    done.stdout + done.stderr,
                )
                self.assertTrue(told[4].startswith("OUT= "))
                self.assertNotIn(".venv", told[4])
        (self.root / "follow.bash").write_text("")
        self.rabbet("envs", "discard", str(self.project))
        places = [*(self.root / "store").glob("*/places/*")]
        self.assertEqual([os.fspath(place) for place in places], [])
