"""A project whose needs only its build tells: asked once, kept in the lock, and left to the build."""

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

# A back end that takes the needs from a list, and notes each time that it is asked.
BACKEND = """\
import base64, hashlib, os, pathlib, sys, zipfile

INFO, TAG = "honey_works-3.1.dist-info", "Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n"

def metadata():
    needs = "".join(f"Requires-Dist: {one}\\n" for one in pathlib.Path("needs.txt").read_text().splitlines())
    head = "Metadata-Version: 2.1\\nName: Honey-Works\\nVersion: 3.1\\nRequires-Python: >=3.9\\n"
    return f"{head}Provides-Extra: plots\\n{needs}"

def prepare_metadata_for_build_wheel(folder, config_settings=None):
    with open(SEEN, "a") as seen:
        seen.write("x")
    made = pathlib.Path(folder, INFO)
    made.mkdir()
    (made / "METADATA").write_text(metadata())
    return INFO

def made(folder, more):
    files = {f"{INFO}/METADATA": metadata(), f"{INFO}/WHEEL": TAG, **more}
    rows = ""
    name = "honey_works-3.1-py3-none-any.whl"
    with zipfile.ZipFile(pathlib.Path(folder, name), "w") as archive:
        for path, text in files.items():
            digest = base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).decode().rstrip("=")
            rows += f"{path},sha256={digest},{len(text.encode())}\\n"
            archive.writestr(path, text)
        archive.writestr(f"{INFO}/RECORD", f"{rows}{INFO}/RECORD,,\\n")
    return name

def build_editable(folder, config_settings=None, metadata_directory=None):
    return made(folder, {"honey.pth": os.getcwd() + "\\n"})

def build_wheel(folder, config_settings=None, metadata_directory=None):
    return made(folder, {"wax.py": pathlib.Path("wax.py").read_text()})
"""
SYSTEM = '[build-system]\nrequires = []\nbuild-backend = "backend"\nbackend-path = ["."]\n'
NEEDS = 'nectarplot>=2\npollencsv; extra == "plots"\nskepio; python_version < "9" and extra == "plots"\n'
DYNAMIC = '[project]\nname = "honey-works"\nversion = "1"\nrequires-python = ">=3.9"\n'
LISTS = 'dynamic = ["dependencies", "optional-dependencies"]\n'


class OwnBuild(ProgramCase):
    """With a back end in the tree, or one that stands for all that is named nowhere."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())
        self.seen = self.root / "seen"

    def lay_out(self, head: str) -> None:
        """A project as somebody has it who never heard of Rabbet."""
        (self.project / "backend.py").write_text(BACKEND.replace("SEEN", repr(str(self.seen))))
        (self.project / "needs.txt").write_text(NEEDS)
        (self.project / "pyproject.toml").write_text(head)

    def test_story(self) -> None:
        """Nothing is invented, the build is asked once, and again when its files change."""
        for head in (SYSTEM, f"{DYNAMIC}{LISTS}{SYSTEM}"):
            self.fresh()
            self.seen.unlink(missing_ok=True)
            self.lay_out(head)
            self.rabbet("begin", "--yes", "--source", self.index.address)
            text = (self.project / "pyproject.toml").read_text()
            self.assertTrue(text.startswith(head))
            self.assertEqual(text.count("[project]"), head.count("[project]"))
            self.assertIn("its build tells them, when it is asked", self.rabbet("declare").out)
            self.rabbet("resolve")
            self.assertEqual({"nectarplot", "pollencsv", "skepio"} - self.locked().keys(), set())
            asked = self.seen.read_text()
            self.assertRegex(self.rabbet("declare").out, "(?m)^extra plots +skepio; python_version")
            self.rabbet("recreate")
            self.assertEqual(self.installed()["Honey-Works"], "3.1")
            self.rabbet("drift")
            self.rabbet("declare", "--limit", "combframe<9")
            self.rabbet("resolve")
            self.assertEqual(
                self.seen.read_text(), asked, "what Rabbet itself writes is not a reason to ask again"
            )
            (self.project / "needs.txt").write_text("nectarplot<2\n")
            self.assertTrue(self.rabbet("status", "--json").json()["lock"]["out_of_date"])
            self.rabbet("recreate", "--strict", code=1)
            self.rabbet("resolve")
            self.assertEqual(self.locked()["nectarplot"], "1.9")
            self.rabbet("recreate")
            self.rabbet("resolve", "--verify")

    def test_teammate(self) -> None:
        """Who has the lock needs no build to know what is needed; a lock without that is out of date."""
        self.lay_out(SYSTEM)
        self.rabbet("begin", "--yes", "--source", self.index.address)
        self.rabbet("resolve")
        self.seen.unlink()
        self.variables["RABBET_STORE"] = str(self.root / "another")
        self.assertTrue(self.rabbet("resolve", "--json").json()["untouched"])
        self.assertIn("honey-works → nectarplot>=2", self.rabbet("explain", "nectarplot").out)
        self.assertFalse(self.seen.exists())
        lock = self.project / "pylock.toml"
        whole = lock.read_text()
        for wrong in ("told = { name = 7 }", 'told = { name = "a", requires = ["=="] }', ""):
            line = next(line for line in whole.splitlines() if line.startswith("told = "))
            lock.write_text(whole.replace(line, wrong))
            self.assertEqual(self.rabbet("status", "--json").json()["next"], "rabbet resolve")
        self.rabbet("resolve")
        self.assertEqual(lock.read_text(), whole)

    def test_left_to_the_build(self) -> None:
        """What the build tells can't be declared; groups, limits and versions of Python can."""
        self.lay_out(SYSTEM)
        self.rabbet("begin", "--yes", "--source", self.index.address)
        for arguments in (
            ["declare", "skepio"],
            ["retract", "nectarplot"],
            ["declare", "--extra", "plots", "skepio"],
            ["declare", "--own-version", "2"],
            ["begin", "--yes", "skepio"],
        ):
            self.assertIn("project's build", self.rabbet(*arguments, code=2).err)
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("declare", "--runtime", "python>=3.10")
        (self.project / "requirements.txt").write_text("tallywax\n")
        told = self.rabbet("adopt", "--yes").out
        self.assertIn("tallywax: its build", told)
        text = (self.project / "pyproject.toml").read_text()
        self.assertNotIn("[project]", text)
        self.assertIn('[tool.rabbet.runtimes]\npython = ">=3.10"', text)
        self.rabbet("resolve")
        self.assertIn("mitewatch", self.locked())

    def test_not_editable(self) -> None:
        """A wheel of the project holds its modules, and is rebuilt when one changes, and only then."""
        self.lay_out(f"{SYSTEM}[tool.rabbet]\neditable = false\n")
        self.rabbet("begin", "--yes", "--source", self.index.address)
        module = self.project / "wax.py"
        module.write_text("colour = 'gold'\n")
        self.rabbet("resolve")
        self.assertIn("editable = false", (self.project / "pylock.toml").read_text())
        show = ("run", "python", "-I", "-c", "import wax; print(wax.colour, '.venv' in wax.__file__)")
        self.rabbet("recreate")
        self.assertIn("gold True", self.rabbet(*show).out)
        for quiet in (".notes", "build/lib/wax.py", "x.egg-info/top", "pylock.more.toml"):
            (self.project / quiet).parent.mkdir(parents=True, exist_ok=True)
            (self.project / quiet).write_text("")
        self.rabbet("drift")
        for place in ("wax.py", "more/data.csv"):
            (self.project / place).parent.mkdir(exist_ok=True)
            (self.project / place).write_text("colour = 'amber'\n")
            self.assertIn("built-otherwise", {finding["reason"] for finding in self.findings().values()})
            self.assertIn("replace honey-works", self.rabbet(*show, code=7).err)
            self.rabbet("recreate")
            self.assertIn("amber True", self.rabbet(*show).out)
        self.assertEqual(self.steps(), [])
        text = (self.project / "pyproject.toml").read_text()
        (self.project / "pyproject.toml").write_text(text.replace("editable = false\n", ""))
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertIn("amber False", self.rabbet(*show).out)
        self.assertNotIn("editable = false", (self.project / "pylock.toml").read_text())

    def test_renamed(self) -> None:
        """A project that gets another name is resolved and recreated under that."""
        self.lay_out(f"[project]\nname = 'honey-works'\nversion = '3.1'\n{SYSTEM}")
        (self.project / "needs.txt").write_text("")
        self.rabbet("begin", "--yes", "--source", self.index.address)
        self.rabbet("resolve")
        for name in ("backend.py", "pyproject.toml"):
            path = self.project / name
            path.write_text(
                path.read_text()
                .replace("Honey-Works", "Wax")
                .replace("honey-works", "wax")
                .replace("honey_works", "wax")
            )
        self.assertTrue(self.rabbet("status", "--json").json()["lock"]["out_of_date"])
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertIn("Wax", self.installed())

    def test_not_editable_this_time(self) -> None:
        """An environment may hold a wheel of the project's present state, until it is recreated."""
        self.lay_out(SYSTEM)
        self.rabbet("begin", "--yes", "--source", self.index.address)
        module = self.project / "wax.py"
        module.write_text("colour = 'gold'\n")
        self.rabbet("resolve")
        self.assertIn("(nothing editable)", self.rabbet("recreate", "--not-editable").out)
        show = ("run", "python", "-I", "-c", "import wax; print(wax.colour, '.venv' in wax.__file__)")
        self.assertIn("gold True", self.rabbet(*show).out)
        for _ in range(2):
            self.rabbet("drift")
        module.write_text("colour = 'amber'\n")
        self.assertIn("built-otherwise", {finding["reason"] for finding in self.findings().values()})
        self.rabbet(*show, code=7)
        self.rabbet("recreate", "--not-editable")
        self.assertIn("amber True", self.rabbet(*show).out)
        self.assertIn("replace", self.rabbet("recreate").out)
        self.assertIn("amber False", self.rabbet(*show).out)

    def test_other_kind_tells(self) -> None:
        """A back end that tells metadata of its editable form alone is not asked to build for that."""
        self.lay_out(SYSTEM)
        backend = self.project / "backend.py"
        text = backend.read_text().replace(
            "prepare_metadata_for_build_wheel", "prepare_metadata_for_build_editable"
        )
        backend.write_text(text.replace("def build_wheel", "def no_wheel"))
        self.rabbet("begin", "--yes", "--source", self.index.address)
        self.rabbet("declare", "--target", "macos-arm64")
        self.assertIn("what the build of honey-works needs", self.rabbet("resolve").out)
        self.assertEqual(self.seen.read_text(), "x")
        self.rabbet("recreate")

    def test_not_lasting(self) -> None:
        """An editable form that needs what is gone after its build is refused, and nothing is changed."""
        self.lay_out(SYSTEM)
        backend = self.project / "backend.py"
        backend.write_text(backend.read_text().replace('os.getcwd() + "\\n"', '"import x  # " + sys.prefix'))
        self.rabbet("begin", "--yes", "--source", self.index.address)
        self.rabbet("resolve")
        told = self.rabbet("recreate", code=7).err
        self.assertIn("editable = false", told)
        self.assertFalse((self.project / ".venv").exists())
        backend.write_text(BACKEND.replace("SEEN", repr(str(self.seen))).replace("RECORD,,", "RECORD,,,,,"))
        told = self.rabbet("recreate", code=7).err
        self.assertIn("made a wheel that can't be installed", told)
        self.assertNotIn("--limit", told)

    def test_edited(self) -> None:
        """To edit is not to drift: `run` does what an editable form that names each module lacks."""
        by_name = (
            'return made(folder, {"honey.pth": "import honey_finder\\n", "honey_finder.py": '
            '"import sys\\n" + "".join('
            'f"sys.path.append({os.getcwd()!r})\\n# {name}\\n"'
            ' for name in sorted(os.listdir()) if name.endswith(".py"))})'
        )
        for form, rebuilt in (("", False), (by_name, True)):
            with self.subTest(form[:20]):
                self.fresh()
                self.lay_out(SYSTEM)
                if form:
                    backend = self.project / "backend.py"
                    line = 'return made(folder, {"honey.pth": os.getcwd() + "\\n"})'
                    backend.write_text(backend.read_text().replace(line, form))
                self.rabbet("begin", "--yes", "--source", self.index.address)
                self.rabbet("resolve", "--now")
                (self.project / "htmlcov").mkdir()
                (self.project / "htmlcov" / "index.html").write_text("")
                self.rabbet("drift")
                (self.project / "wax.py").write_text("colour = 'gold'\n")
                self.assertEqual(bool(self.findings(code=int(rebuilt))), rebuilt)
                show = ("run", "python", "-c", "import wax; print(wax.colour)")
                done = self.rabbet(*show)
                self.assertEqual(done.out, "gold\n")
                self.assertEqual("Built again" in done.err, rebuilt)
                self.assertEqual(self.rabbet(*show).err, "")
                self.rabbet("drift")
        backend.write_text(backend.read_text().replace("def build_editable(", "def build_editable(x, y, "))
        (self.project / "comb.py").touch()
        for _ in range(2):  # the second one knows it
            done = self.rabbet(*show)
            self.assertEqual(done.out, "gold\n")
            self.assertIn("stays installed", done.err)

    def test_setup_alone(self) -> None:
        """A tree with a `setup.py` is built by the back end that stands for all that name none."""
        backend = BACKEND.replace("SEEN", repr(str(self.seen)))
        legacy = f"{backend}\nimport sys\n__legacy__ = sys.modules[__name__]\n"
        more = (("setuptools/__init__.py", ""), ("setuptools/build_meta.py", legacy))
        write_files(self.root / "wheels", [MadeUp(name="setuptools", version="80.0", code="", more=more)])
        (self.project / "needs.txt").write_text("setuptools\n")
        (self.project / "setup.py").write_text("raise SystemExit\n")
        self.rabbet("begin", "--yes", "--source", "../wheels")
        self.rabbet("resolve")
        self.assertEqual(self.locked(), {"setuptools": "80.0"})
        self.rabbet("recreate")
        self.rabbet("drift")

    def test_failures(self) -> None:
        """Each is told, and nothing is written."""
        for needs, code, words in (
            ("skepio (>dev)", 7, "'skepio (>dev)', which is not a requirement"),
            ('skepio; extra == "plots" or os_name == "nt"', 3, "which no extra alone can stand for"),
            ('skepio; extra == "nowhere"', 3, "which no extra alone can stand for"),
            ('skepio; os_name == "nt" or os_name == "x" and extra == "plots"', 3, "which no extra alone can"),
            (None, 7, "can't be built"),
        ):
            self.lay_out(SYSTEM)
            self.rabbet("begin", "--yes", "--source", self.index.address)
            if needs is None:
                (self.project / "needs.txt").unlink()
            else:
                (self.project / "needs.txt").write_text(f"{needs}\n")
            self.assertIn(words, self.rabbet("resolve", code=code).err)
            self.assertFalse((self.project / "pylock.toml").exists())
