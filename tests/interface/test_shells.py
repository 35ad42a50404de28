"""In the shell: what is completed, and environments that follow their user."""

import os
import shutil
import subprocess

from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

SHELLS = {
    "bash": ["bash", "--noprofile", "--norc"],
    "zsh": ["zsh", "-f"],
    "fish": ["fish", "--no-config"],
}
# Each line is read as if it was typed; bash asks before its prompt, which a script has to do itself.
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
        ):
            self.assertEqual(sorted(self.completed(line)), sorted(expected), line)
        self.assertEqual(self.completed("rabbet nothing-like-that x"), [])
        for shell in ("bash", "zsh", "fish", "powershell"):
            self.assertIn("rabbet", self.rabbet("completion", shell).out)

    def test_following(self) -> None:
        """In a project's folder and below, and nowhere else; never for what came with a clone."""
        (self.project / "below").mkdir()
        clone = self.root / "clone"
        shutil.copytree(self.project, clone, symlinks=True)
        root = self.project / ".venv"
        for shell, command in SHELLS.items():
            if not shutil.which(shell):
                continue  # bash at least is everywhere
            place = self.root / f"follow.{shell}"
            place.write_text(self.rabbet("follow", shell).out)
            hook = "_rabbet_follow" if shell == "bash" else "true"
            walk = WALK.format(source=f"source {place}", project=self.project, clone=clone, hook=hook)
            done = subprocess.run(
                command,
                input=walk,
                cwd="/",
                env={**self.variables, "TERM": "dumb"},
                capture_output=True,
                text=True,
                check=False,
            )
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
        self.assertEqual([os.fspath(one) for one in places], [])
