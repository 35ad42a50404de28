"""Modules in a project that are called like Python's own, or like Rabbet: no way of starting runs them."""

import shutil
import subprocess
import sys

from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.program import ProgramCase

# What Rabbet imports, early and late: from Python, from its libraries, and itself.
PLANTED = ("json", "msgspec", "packaging", "hashlib", "zipfile", "subprocess", "rabbet", "pycurl", "tomllib")


class PlantedModules(ProgramCase):
    """A project in whose folder such modules lie."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.begin(self.index.address, "tallywax")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.mark = self.root / "HERE"
        for name in PLANTED:
            (self.project / name).mkdir()
            (self.project / name / "__init__.py").write_text(f"open({str(self.mark)!r}, 'w').close()\n")

    def check(self, *command: str, **variables: str) -> str:
        """Run a way of starting Rabbet in the project's folder."""
        done = subprocess.run(
            command,
            cwd=self.project,
            env={**self.variables, **variables},
            capture_output=True,
            text=True,
            timeout=PATIENCE,
            check=False,
        )
        self.assertFalse(self.mark.exists(), command)
        self.assertIn(done.returncode, (0, 1), done.stderr)
        return done.stdout

    def test_every_way_in(self) -> None:
        """By the installed script and by Python; also where a variable names the project's folder."""
        self.check(f"{sys.prefix}/bin/rabbet", "drift")
        self.check(sys.executable, "-P", "-m", "rabbet", "drift")
        shutil.rmtree(self.project / "rabbet")  # which is what Python itself is asked for here
        self.check(sys.executable, "-m", "rabbet", "drift")
        for path in (".", str(self.project), f"{self.root}:{self.project}"):
            self.check(f"{sys.prefix}/bin/rabbet", "drift", PYTHONPATH=path)

    def test_what_rabbet_starts(self) -> None:
        """A carried Rabbet, and what sends inventories and plays the example."""
        self.check(sys.executable, "-P", "-m", "rabbet", "carry", "--to", "../carried")
        carried = self.root / "carried"
        for name in set(PLANTED) - {"rabbet"}:
            (carried / f"{name}.py").write_text(f"open({str(self.mark)!r}, 'w').close()\n")
        self.assertIn("No drift", self.check(sys.executable, str(carried / "rabbet.py"), "drift"))
        again = ("recreate", "--fresh", "--carried", "../carried")
        self.check(sys.executable, "-I", str(carried / "rabbet.py"), *again)
        code = (
            "import sys; from rabbet.work.own_program import own_program; import subprocess;"
            "sys.exit(subprocess.call(own_program('drift')))"
        )
        self.check(sys.executable, "-P", "-c", code)
