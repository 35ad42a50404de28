"""`imports` on a project's files."""

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase


class Imports(ProgramCase):
    """With the made-up libraries, of which nothing is run."""

    def setUp(self) -> None:
        super().setUp()
        index = self.serve(StandIn())
        self.begin(index.address, "nectarplot>=2", "pollencsv")
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("resolve")
        (self.project / "tests").mkdir()
        self.write("hivescale.py", "import nectarplot, combframe, plots", "import honeycount")
        self.write("plots.py", "import broodcount")
        self.write("tests/test_plots.py", "import plots, smokerlog, helper")
        self.write("tests/helper.py", "print 'old'")

    def write(self, name: str, *lines: str) -> None:
        (self.project / name).write_text("".join(f"{line}\n" for line in lines))

    def test_findings(self) -> None:
        """Each with its place and its command, from the environment or, without one, from the store."""
        told = self.rabbet("imports", code=7).err
        self.assertIn("try     rabbet recreate --everything", told)
        self.rabbet("recreate", "--everything")
        outcome = self.rabbet("imports", code=1)
        self.assertIn("it comes with nectarplot", outcome.out)
        found = {
            finding["name"]: finding
            for finding in self.rabbet("imports", "--json", code=1).json()["findings"]
        }
        self.assertEqual(found["honeycount"]["kind"], "absent")
        self.assertEqual(found["honeycount"]["places"], ["hivescale.py:2"])
        self.assertEqual(found["combframe"]["mend"], "rabbet declare combframe")
        self.assertEqual(found["combframe"]["reason"], "comes-with")
        self.assertEqual(found["smokerlog"]["mend"], "rabbet declare smokerlog --group checks")
        self.assertEqual(found["pollencsv"]["mend"], "rabbet retract pollencsv")
        self.assertEqual(found["mitewatch"]["reason"], "commands")
        self.assertEqual(found["tests/helper.py"]["kind"], "unreadable")
        (self.project / ".venv").rename(self.root / "gone")
        self.assertEqual(self.rabbet("imports", code=1).out, outcome.out)

    def test_notebook(self) -> None:
        """A library that a line of a notebook installs is undeclared; adopting declares it."""
        cell = '{"cell_type": "code", "source": ["!tool install skepio\\n", "import nectarplot"]}'
        self.write("season.ipynb", '{"cells": [' + cell + "]}")
        self.rabbet("recreate", "--everything")
        findings = self.rabbet("imports", "--json", code=1).json()["findings"]
        found = next(finding for finding in findings if finding["name"] == "skepio")
        self.assertEqual((found["kind"], found["reason"]), ("undeclared", "installed"))
        self.assertEqual((found["places"], found["mend"]), (["season.ipynb:1"], "rabbet declare skepio"))
        self.assertIn("a line of a notebook installs it", self.rabbet("imports", code=1).out)
        self.assertIn("skepio", self.rabbet("adopt", "--from", "season.ipynb", "--plan").out)

    def test_named(self) -> None:
        """What is named in configuration or code by its module, or read at start-up, is used otherwise."""
        more = (("honeysuckle.pth", "import sys\n"), ("comb_extension.py", ""))
        write_files(self.root / "wheels", [MadeUp(name="honeysuckle", version="1.0", code="", more=more)])
        named = MadeUp(name="hive-tools", version="1.0", code="", more=(("comb_tools/__init__.py", ""),))
        write_files(self.root / "wheels", [named])
        self.rabbet("declare", "--source", "more=../wheels")
        self.rabbet("declare", "hive-tools", "honeysuckle", "--now")

        def told(name: str) -> tuple[str, str | None, str]:
            found = self.rabbet("imports", "--json", code=1).json()["findings"]
            keys = ("weight", "reason", "told")
            return next(tuple(finding[key] for key in keys) for finding in found if finding["name"] == name)

        self.assertEqual(told("honeysuckle")[:2], ("note", "start-up"))
        self.assertEqual(told("hive-tools"), ("differs", None, ""))
        self.write("settings.py", "x = ['comb_toolsmith', 'no.comb_tools']")
        self.assertEqual(told("hive-tools"), ("differs", None, ""))
        for file, text in (
            ("settings.py", "x = ['comb_tools.extension']"),
            ("tox.ini", "plugins = comb_tools.extension"),
        ):
            self.write(file, text)
            self.assertEqual(told("hive-tools"), ("note", "named-in", f"it is named in {file}"))
            (self.project / file).unlink()
        declared = self.project / "pyproject.toml"
        declared.write_text(f"{declared.read_text()}\n[tool.waggle]\nplugins = ['comb_tools']\n")
        section = "it is named in [tool.waggle] in pyproject.toml"
        self.assertEqual(told("hive-tools"), ("note", "named-in", section))

    def test_agreement(self) -> None:
        """What is imported is declared: exit code 0."""
        self.rabbet("recreate")
        self.rabbet("declare", "combframe", "broodcount")
        self.rabbet("resolve")
        self.write("hivescale.py", "import nectarplot, combframe, broodcount, pollencsv")
        for name in ("plots.py", "tests/test_plots.py", "tests/helper.py"):
            (self.project / name).unlink()
        self.assertIn("1 file ", self.rabbet("imports").out)
