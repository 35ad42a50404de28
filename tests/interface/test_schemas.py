"""Every JSON document is provoked once; all of them, here and in other tests, are as their schemas say."""

import json
import shutil
from pathlib import Path

from jsonschema import Draft202012Validator

from rabbet.demo.by_hand import put_there, site_of
from rabbet.demo.runtimes import LANGUAGE, shelf
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase
from tests.support.schemas import SCHEMAS
from tests.support.sources import source_archive

GIT = ("git", "-c", "user.name=bee", "-c", "user.email=bee@apiary.example")


class Schemas(ProgramCase):
    """A project that uses all there is; each command is asked for its document."""

    def setUp(self) -> None:
        super().setUp()
        self.provoked: set[str] = set()

    def ask(self, line: str, code: int = 0, **options: Path) -> None:
        """Run a command with `--json`; that its document is valid is checked for every run."""
        command, rest, words = line.partition(" -- ")
        behind = ["--", words] if rest else []
        document = self.rabbet(*command.split(), "--json", *behind, code=code, **options).json()
        self.provoked.add(document["schema"].removeprefix("rabbet.").removesuffix("/1"))

    def lay_out(self) -> None:
        """A project with a group, a language, a library to be built, and a remote."""
        files, shelves = self.root / "files", self.project / "shelf"
        for folder in (files, shelves):
            folder.mkdir()
        (files / "queenmark-1.2.tar.gz").write_bytes(source_archive())
        for name, content in shelf(["1.4", "2.1"]).items():
            (shelves / name).write_bytes(content)
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text(LANGUAGE.replace("tool.rabbet.", ""))
        index = self.serve(StandIn())
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "hivescale"\nversion = "1.0"\nrequires-python = ">=3.11"\n'
            'dependencies = ["nectarplot", "queenmark"]\n[dependency-groups]\nchecks = ["mitewatch<2"]\n'
            '[tool.rabbet]\nbuild-from-source = ["queenmark"]\n[tool.rabbet.runtimes]\nwaggle = ">=2"\n'
            '[[tool.rabbet.catalogues]]\nname = "shelf"\nurl = "shelf"\n'
            '[[tool.rabbet.sources]]\nname = "own"\nurl = "../files"\nonly = ["queenmark"]\n'
            f'[[tool.rabbet.sources]]\nname = "apiary"\nurl = "{index.address}"\n'
        )
        (self.project / "hivescale.py").write_text("import nectarplot\nimport royaljelly\n")
        self.git("init", "--quiet")
        self.git("init", "--quiet", "--bare", "../team.git")
        self.git("remote", "add", "origin", "../team.git")

    def test_all(self) -> None:
        self.lay_out()
        self.ask("declare")
        self.ask("resolve")
        self.git("add", "pyproject.toml", "pylock.toml")
        self.git("commit", "--quiet", "--message", "one")
        self.ask("resolve --verify")
        shutil.copy(self.project / "pylock.toml", self.project / "old.toml")
        self.ask("recreate", code=7)
        self.ask("recreate --obtain")
        self.ask("declare tallywax<1.2")
        self.ask("recreate --strict", code=1)
        self.ask("drift", code=1)
        self.ask("resolve")
        self.ask("recreate --plan")
        self.ask("recreate")
        self.ask("resolve --now")
        self.ask("status --variant all")
        self.ask("compare old.toml pylock.toml")
        self.ask("explain")
        self.ask("explain combframe")
        self.ask("explain waggle")
        self.ask("explain --held-back")
        self.ask("lookup nectarplot")
        self.ask("imports", code=1)
        for line in (
            "status",
            "rules",
            "envs",
            "store",
            "store key",
            "store sweep",
            "runtimes",
            "carry --built --to ../built",
        ):
            self.ask(line)
        self.ask("carry --to ../carried")
        for line in (
            "lookup waggle",
            "obtain waggle<2",
            "discard waggle<2",
            "publish shelf/waggle-1.4.tar.gz --to ../a",
        ):
            self.ask(f"runtimes {line}")
        (self.project / "each.txt").write_text("shelf/waggle-1.4.tar.gz\n")
        self.ask("runtimes publish --each each.txt --to ../a")
        self.ask("export editor")
        speaking = site_of(self.project / ".venv") / "ipykernel-1.0.dist-info"
        speaking.mkdir()
        self.ask("export kernel")
        speaking.rmdir()
        for line in ("export kernels", "lend", "lend --raise"):
            self.ask(line)
        self.ask("culprit --good old.toml -- true", code=1)
        for kind in ("newest", "bounds", "everywhere"):
            self.ask(f"prove --{kind} -- true")
        self.census()
        put_there(site_of(self.project / ".venv"), "skepio", "0.3", installer="handy", asked=True)
        self.ask("drift", code=1)
        self.ask("drift --against git:HEAD", code=1)
        self.ask("past combframe")
        self.ask("drift --keep skepio", code=1)
        other = self.root / "other"
        other.mkdir()
        (other / "requirements.txt").write_text("skepio\n")
        self.ask("adopt --yes", folder=other)
        self.spoil()
        self.ask("store check", code=1)
        self.assertEqual(self.provoked, {path.name.partition(".")[0] for path in SCHEMAS.glob("*.json")})

    def spoil(self) -> None:
        """Change a wheel of the store."""
        wheel = next((self.root / "store").glob("layout-*/wheels/*/*.whl"))
        wheel.chmod(0o644)
        wheel.write_bytes(b"wax")

    def census(self) -> None:
        """What is recorded, sent, collected and shown."""
        self.ask("census record --label loft --to loft.json")
        self.ask("census send --label loft")
        self.ask("census collect")
        for line in (
            "show --from loft.json",
            "show --machine loft --from loft.json",
            "check --from loft.json",
        ):
            self.ask(f"census {line}")
        for line in (
            "show --library combframe",
            "show --since 2026-01-01",
            "news",
            "trend",
            "rename loft barn",
        ):
            self.ask(f"census {line}")

    def test_schemas(self) -> None:
        """Each is a JSON Schema, names its document, and says what it is."""
        for path in sorted(SCHEMAS.glob("*.json")):
            with self.subTest(path.name):
                schema = json.loads(path.read_text())
                Draft202012Validator.check_schema(schema)
                name = path.name.partition(".")[0]
                self.assertEqual(schema["properties"]["schema"], {"const": f"rabbet.{name}/1"})
                self.assertRegex(schema["title"], r"^[A-Z].*[^.]$")
