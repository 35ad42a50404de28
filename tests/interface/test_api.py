"""Rabbet as other programs use it: the examples of its page, the commands' documents, nothing left behind."""

import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

from rabbet.demo.libraries import RELEASES
from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.program import ProgramCase

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "api.md"
BLOCK = re.compile(r"```python\n(.*?)```\n(?:\n```text\n(.*?)```)?", re.DOTALL)
MARK = "---- next block"
SAME = {
    "status": "StatusDocument(project.status())",
    "declare": "EntriesDocument(project.declaration())",
    "resolve": "ResolvedDocument(project.resolve())",
    "resolve --verify": "VerdictsDocument(project.verify())",
    "recreate --plan": "RecreateDocument(project.plan(), done=False)",
    "drift": "DriftDocument(project.drift())",
    "drift --deep": "DriftDocument(project.drift(deep=True))",
    "explain combframe": "LibraryDocument(project.explain('combframe'), 'combframe')",
    "explain": "WholeLockDocument(project.explain_all())",
    "lookup combframe>=2": "LookupDocument(project.lookup('combframe>=2'))",
    "compare pylock.toml": "CompareDocument(project.compare('pylock.toml'))",
    "imports": "ImportsDocument(project.imports())",
}
DOCUMENTS = """
import json
from rabbet.api import Rabbet
from rabbet.documents.document import with_schema
from rabbet.documents.declaring.changes import EntriesDocument
from rabbet.documents.resolving.compare import CompareDocument
from rabbet.documents.drifting.drift import DriftDocument
from rabbet.documents.resolving.explain import LibraryDocument, WholeLockDocument
from rabbet.documents.drifting.imports import ImportsDocument
from rabbet.documents.resolving.lookup import LookupDocument
from rabbet.documents.recreating.recreate import RecreateDocument
from rabbet.documents.resolving.resolve import ResolvedDocument, VerdictsDocument
from rabbet.documents.more.status import StatusDocument
with Rabbet() as project:
    for document in (%s):
        print(json.dumps(with_schema(document)))
"""
LASTING = """
import os, sys, tempfile, threading, time
from rabbet.api import Rabbet, RecreateOptions
from rabbet.errors import RabbetError

def once():
    with Rabbet(fresh_listings=True) as project:
        project.resolve()
        project.verify()
        project.lookup("combframe")
        project.declare("skepio")
        project.declaration(), project.lock(), project.status(), project.up_to_date()
        try:
            project.explain("skepio")
        except RabbetError:
            pass
        project.retract("skepio")
        project.recreate(RecreateOptions(fresh=True))
        project.drift(), project.drift(deep=True), project.drift(place=".venv"), project.imports()
        project.known_fit(), project.known_drift(), project.explain("combframe"), project.compare("installed")
        thread = next((one for one in threading.enumerate() if one.name == "wire"), None)
    if thread is not None:
        thread.join()  # it ends by itself, soon after the project was closed

def held():
    files = sorted(os.listdir(tempfile.gettempdir()))
    return len(os.listdir("/proc/self/fd")), threading.active_count(), files

once(), once()
before = held()
for _ in range(10):
    once()
for _ in range(600):  # threads of pools end by themselves, on a busy machine in a while
    if held() == before:
        break
    time.sleep(0.1)
print(before == held(), before, held())
"""

MEANWHILE = """
import shutil
from rabbet.api import Rabbet
from rabbet.core.progress import Silent
from rabbet.errors import RabbetError

class Editing(Silent):
    def stage(self, text, total=None, *, size=0):
        if text.startswith(%r):
            self.stage = lambda *_, **__: None
            shutil.copy("other/%s", ".")

with Rabbet(observer=Editing()) as project:
    try:
        project.%s()
    except RabbetError as error:
        print(error)
    print(bool(project.up_to_date()), project.known_fit())
"""


class Api(ProgramCase):
    """A program that imports Rabbet."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn(RELEASES))
        (self.root / "temporary").mkdir()

    def play(self, program: str, folder: Path) -> str:
        """What a program prints that ends well; no resource warning is tolerated."""
        done = subprocess.run(
            [sys.executable, "-W", "error", "-c", program],
            cwd=folder,
            env={**self.variables, "TMPDIR": str(self.root / "temporary")},
            capture_output=True,
            text=True,
            timeout=PATIENCE,
            check=False,
        )
        self.assertEqual((done.returncode, done.stderr), (0, ""), done.stdout)
        return done.stdout

    def test_documentation(self) -> None:
        """Each block of the page runs after the one before, and prints what the page shows."""
        self.begin(self.index.address)
        blocks = BLOCK.findall(PAGE.read_text())
        self.assertGreater(len(blocks), 5)
        printed = self.play(f"print({MARK!r})\n".join(block for block, _ in blocks), self.root)
        for (block, shown), output in zip(blocks, printed.split(f"{MARK}\n"), strict=True):
            with self.subTest(block):
                python = re.compile(r"Python 3\.\d+\.\d+")
                self.assertEqual(python.sub("Python", output), python.sub("Python", shown))

    def test_documents(self) -> None:
        """A program gets the documents that the commands print."""
        self.begin(self.index.address, "combframe<2.2", "nectarplot")
        self.rabbet("resolve")
        self.rabbet("recreate")
        (self.project / "hivescale.py").write_text("import combframe, nectarplot\n")
        printed = self.play(DOCUMENTS % ", ".join(SAME.values()), self.project).splitlines()
        for line, document in zip(SAME, printed, strict=True):
            with self.subTest(line):
                own = self.rabbet(*line.split(), "--json").json()
                if line == "resolve":
                    own["written"] = True
                self.assertEqual(json.loads(document), own)

    def test_edited_meanwhile(self) -> None:
        """What is edited while work goes on is in none of its results, and none is remembered for it."""
        self.begin(self.index.address, "combframe<2", "nectarplot")
        self.rabbet("resolve")
        shutil.copytree(self.project, self.project / "other")
        self.rabbet("declare", "skepio")
        told = self.play(MEANWHILE % ("reading", "pyproject.toml", "resolve"), self.project)
        self.assertEqual(told, "False None\n")
        self.rabbet("declare", "skepio")
        self.rabbet("resolve")
        told = self.play(MEANWHILE % ("fetching", "pylock.toml", "recreate"), self.project)
        self.assertEqual(told, "pylock.toml was changed while .venv was made from it\nFalse None\n")

    def test_nothing_is_left_behind(self) -> None:
        """After many operations there are as many descriptors, threads and temporary files as after few."""
        self.begin(self.index.address, "combframe", "nectarplot")
        self.assertRegex(self.play(LASTING, self.project), "^True ")

    def test_folder(self) -> None:
        """The project of a folder is the nearest one above it, however the folder is written."""
        self.begin(self.index.address)
        (self.project / "src" / "notes").mkdir(parents=True)
        (self.root / "elsewhere").mkdir()
        program = (
            "from rabbet.api import Rabbet\nfrom rabbet.errors import RabbetError\n"
            "for folder in ('.', 'src/notes', 'src/../src', '../elsewhere', '../hivescale', 'gone',"
            " 'pyproject.toml'):\n"
            "    try:\n        print(Rabbet(folder).folder.name)\n"
            "    except RabbetError as error:\n        print(type(error).__name__)\n"
        )
        own, none = "hivescale", ["NoDeclaration", "WrongUsage"]
        self.assertEqual(
            self.play(program, self.project).split(), [own, own, own, none[0], own, none[1], own]
        )

    def test_places(self) -> None:
        """A name works from everywhere; changes are written into a script, and edits of it count."""
        self.variables.update(RABBET_DATA=str(self.root / "data"), RABBET_SOURCE=self.index.address)
        self.rabbet("begin", "--named", "scratch", "skepio", "--yes")
        script = self.project / "report.py"
        script.write_text("import nectarplot\n")
        program = (
            "from pathlib import Path\nfrom rabbet.api import Rabbet\n"
            "with Rabbet('scratch') as named, Rabbet('report.py') as script:\n"
            "    print(named.bring_up_to_date().recreated.environment)\n"
            "    script.declare('nectarplot<2')\n"
            "    print(script.resolve()[0].lock.versions['nectarplot'])\n"
            "    file = Path('report.py')\n"
            "    file.write_text(file.read_text().replace('<2', '>=2'))\n"
            "    print(script.behind(), script.resolve()[0].lock.versions['nectarplot'])\n"
            "    script.retract('nectarplot')\n"
        )
        told = self.play(program, self.project)
        self.assertRegex(told, r"\.venv\n1\.9\n.+ 2\.1\n")
        self.assertEqual(script.read_text(), "import nectarplot\n")
        self.assertTrue((self.project / "pylock.report.toml").is_file())

    def test_consent(self) -> None:
        """The project's own build is refused until somebody agreed to it, unless nobody is there to ask."""
        (self.project / "pyproject.toml").write_text(
            '[build-system]\nrequires = []\nbuild-backend = "made"\nbackend-path = ["."]\n'
            '[project]\nname = "hivescale"\nversion = "1.0"\nrequires-python = ">=3.11"\n'
            f'[[tool.rabbet.sources]]\nname = "apiary"\nurl = "{self.index.address}"\n'
        )
        (self.project / "made.py").write_text("raise SystemExit('it ran')\n")
        program = (
            "from rabbet.api import Rabbet\nfrom rabbet.errors import BuildFailed, NotAgreed\n"
            "def end(project):\n    try:\n        project.resolve(); project.recreate()\n"
            "    except (BuildFailed, NotAgreed) as error:\n        print(type(error).__name__)\n"
            "with Rabbet() as project:\n    end(project)\n    end(Rabbet(attended=False))\n"
            "    project.agree_to_build()\n    end(project)\n"
        )
        printed = self.play(program, self.project).split()
        self.assertEqual(printed, ["NotAgreed", "BuildFailed", "BuildFailed"])
