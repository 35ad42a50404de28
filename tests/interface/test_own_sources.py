"""The project itself and checkouts: used where they lie, while they are edited."""

import shutil
import subprocess
import tomllib
from pathlib import Path

from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

BUILD = '[build-system]\nrequires = ["combwright"]\nbuild-backend = "combwright"\n'


class OwnSources(ProgramCase):
    """Built by the made-up back end."""

    def setUp(self) -> None:
        super().setUp()
        self.index = self.serve(StandIn())

    def declare(self, *requirements: str, build: str = BUILD, head: str = 'version = "0.1.0"') -> None:
        """Write a declaration and a module beside it."""
        (self.project / "pyproject.toml").write_text(
            f'{build}[project]\nname = "hivescale"\n{head}\nrequires-python = ">=3.11"\n'
            f'dependencies = {list(requirements)}\nscripts = {{ hivescale = "hivescale:main" }}\n'
            f'[[tool.rabbet.sources]]\nname = "apiary"\nurl = "{self.index.address}"\n'
        )
        self.write_module("weighed")

    def write_module(self, said: str) -> None:
        code = f'__version__ = "0.1.5"\n\n\ndef main():\n    print("hives {said}")\n'
        (self.project / "hivescale.py").write_text(code)

    def checkout(self, version: str, *needs: str, name: str = "tallywax") -> Path:
        """A checkout with a module."""
        folder = self.root / "checkout"
        folder.mkdir(exist_ok=True)
        (folder / "pyproject.toml").write_text(
            f'{BUILD}[project]\nname = "{name}"\nversion = "{version}"\ndependencies = {list(needs)}\n'
        )
        (folder / f"{name}.py").write_text('kind = "checkout"\n')
        return folder

    def made(self) -> None:
        self.rabbet("resolve")
        self.rabbet("recreate")

    def elsewhere(self, code: str) -> str:
        """What the environment's interpreter prints in another folder."""
        return self.rabbet("run", "sh", "-c", f'cd / && python -c "{code}"').out.strip()

    def importable(self, name: str) -> bool:
        code = f"from importlib.util import find_spec; print(find_spec('{name}') is not None)"
        return self.elsewhere(code) == "True"

    def test_project(self) -> None:
        """Its command exists, runs what is written at the moment, and goes where the project goes."""
        self.declare("tallywax<1.2")
        self.made()
        self.assertEqual(self.rabbet("run", "hivescale").out, "hives weighed\n")
        self.write_module("counted twice")  # another size: Python sees a change within one second by that
        self.assertEqual(self.rabbet("run", "hivescale").out, "hives counted twice\n")
        self.assertEqual(self.installed(), {"hivescale": "0.1.0", "tallywax": "1.1"})
        self.rabbet("drift")
        self.assertIn("matches the lock", self.rabbet("recreate", "--verify").out)
        self.rabbet("declare", "--own-version", "next-minor")
        self.assertIn("built-otherwise", {finding["reason"] for finding in self.findings().values()})
        self.rabbet("resolve", "--verify")
        self.rabbet("recreate")
        self.assertEqual(self.installed()["hivescale"], "0.2.0")
        moved = self.root / "moved"
        self.project.rename(moved)
        self.project = moved
        self.assertEqual(self.rabbet("run", "hivescale").out, "hives counted twice\n")
        self.rabbet("drift")

    def test_without_project(self) -> None:
        """It is left out until the next time; running and comparing take that as it is."""
        for build in (BUILD, ""):
            with self.subTest(build):
                self.fresh()
                self.declare("tallywax", build=build)
                self.rabbet("resolve")
                self.rabbet("recreate", "--without-project")
                self.assertEqual(self.elsewhere("import tallywax; print(1)"), "1")
                self.assertFalse(self.importable("hivescale"))
                self.rabbet("drift")
                self.rabbet("recreate")
                self.assertEqual(self.elsewhere("import hivescale; hivescale.main()"), "hives weighed")
                self.rabbet("recreate", "--without-project")
                self.assertFalse(self.importable("hivescale"))
                self.rabbet("drift")

    def test_dynamic(self) -> None:
        """A version that only the build tells is asked for, and never written."""
        self.declare(head='dynamic = ["version"]')
        self.made()
        self.assertEqual(self.installed(), {"hivescale": "0.1.5"})
        self.assertIn("its build tells the version", self.rabbet("declare").out)
        self.rabbet("resolve", "--verify")
        self.write_module("weighed again")
        (self.project / "more.py").write_text("")
        self.rabbet("drift")
        self.assertIn("dynamic", self.rabbet("declare", "--own-version", "next-patch", code=2).err)

    def test_undeclared(self) -> None:
        """A library that is left out of the declaration can't be imported any more."""
        self.declare("tallywax", "queenmark")
        self.made()
        self.assertTrue(self.importable("queenmark"))
        self.rabbet("retract", "queenmark")
        self.made()
        self.assertFalse(self.importable("queenmark"))

    def test_own_version(self) -> None:
        self.declare()
        for given, code, after in (
            ("next-patch", 0, "0.1.1"),
            ("1.0rc1", 0, "1.0rc1"),
            ("next-major", 0, "1"),
            ("bees", 2, "1"),
        ):
            self.rabbet("declare", "--own-version", given, code=code)
            found = tomllib.loads((self.project / "pyproject.toml").read_text())["project"]["version"]
            self.assertEqual(found.removesuffix(".0"), after)

    def test_checkout(self) -> None:
        """It stands in for the release and back again; what changes in it is noticed."""
        folder = self.checkout("9.0")
        self.declare("combframe")
        self.made()
        kind = "import tallywax; print(getattr(tallywax, 'kind', 'release'))"
        self.assertEqual(self.elsewhere(kind), "release")
        self.rabbet("declare", "--local", "Tallywax", "../checkout")
        self.assertRegex(self.rabbet("declare").out, "checkout +tallywax in ../checkout")
        told = self.rabbet("resolve").out
        self.assertIn("../checkout", told)
        self.rabbet("recreate")
        self.assertEqual(self.elsewhere(kind), "checkout")
        self.assertIn("9.0", self.installed()["tallywax"])
        (folder / "tallywax.py").write_text('kind = "edited"\n')
        self.assertEqual(self.elsewhere(kind), "edited")
        self.checkout("9.1", "queenmark")
        self.assertIn("built-otherwise", {finding["reason"] for finding in self.findings().values()})
        self.assertIn("9.0 would become 9.1", self.rabbet("resolve", "--verify", code=1).out)
        self.assertIn("queenmark", self.rabbet("recreate", code=7).err)
        self.made()
        self.assertIn("queenmark", self.installed())
        shutil.rmtree(folder)
        self.rabbet("recreate", "--fresh", code=7)
        self.rabbet("retract", "--local", "tallywax")
        self.assertIn("checkout", self.rabbet("resolve").out)
        self.rabbet("recreate")
        self.assertEqual(self.elsewhere(kind), "release")
        self.assertNotIn("local", (self.project / "pyproject.toml").read_text())

    def test_no_checkout(self) -> None:
        """What can't be one is refused before anything is written."""
        self.declare("combframe")
        self.checkout("1.0", name="skepio")
        before = self.tree("pyproject.toml")
        for folder, said in (("../checkout", "it says that it is skepio"), ("../files", "holds neither")):
            self.assertIn(said, self.rabbet("declare", "--local", "tallywax", folder, code=2).err)
        self.rabbet("retract", "--local", "tallywax", code=2)
        self.assertEqual(self.tree("pyproject.toml"), before)

    def test_required_by_others(self) -> None:
        """The project stands in for its own releases, whoever requires it, and is installed once."""
        self.declare("combframe>=2")
        pyproject = self.project / "pyproject.toml"
        pyproject.write_text(pyproject.read_text().replace('name = "hivescale"', 'name = "tallywax"', 1))
        (self.project / "hivescale.py").rename(self.project / "tallywax.py")
        self.rabbet("resolve", code=4)  # for combframe needs a later one than 0.1.0
        self.rabbet("declare", "--own-version", "9.0")
        self.made()
        self.assertEqual(self.installed()["tallywax"], "9.0")
        self.rabbet("drift")
        self.rabbet("resolve", "--verify")
        self.rabbet("recreate", "--without-project")
        self.assertTrue(
            any("tallywax" in need for finding in self.findings().values() for need in finding["unmet"])
        )

    def test_commit(self) -> None:
        """A commit is built from its own tree, if that is allowed, and says where it came from."""
        folder = self.checkout("9.0")
        for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "wax"]):
            named = ["git", "-c", "user.name=bee", "-c", "user.email=bee@apiary.example"]
            subprocess.run([*named, *words], cwd=folder, check=True)
        self.declare(f"tallywax @ git+{folder.as_uri()}")
        self.rabbet("resolve")
        self.assertIn("--build-from-source tallywax", self.rabbet("recreate", code=7).err)
        self.rabbet("declare", "--build-from-source", "tallywax")
        shutil.move(folder / "tallywax.py", folder / "gone.py")
        self.made()
        self.assertEqual(self.elsewhere("import tallywax; print(tallywax.kind)"), "checkout")
        origin = next(self.site.glob("tallywax-*/direct_url.json")).read_text()
        self.assertIn('"vcs_info"', origin)
