"""What one machine built from source, given to others: taken where all of its build is the same."""

import json
import shutil

from rabbet.demo.stand_in import StandIn
from rabbet.python.formats.built_wheels import NotBuiltWheels, built_wheels_text, read_built_wheels
from tests.support.program import ProgramCase
from tests.support.sources import source_archive

LOCKED = '[tool.rabbet.builds.queenmark]\nvariables = { COLONIES = "%s" }\n'


class TeamBuilds(ProgramCase):
    """A folder of source archives is the source; a build leaves a mark each time."""

    def setUp(self) -> None:
        super().setUp()
        self.seen, self.files = self.root / "seen", self.root / "files"
        self.files.mkdir()
        hook = f"Path({str(self.seen)!r}).open('a').write('x'); return well(folder, 'queenmark', '1.2')"
        (self.files / "queenmark-1.2.tar.gz").write_bytes(source_archive(hook))
        self.declare()
        self.rabbet("resolve")

    def declare(self, builds: str = "", colonies: str = "12") -> None:
        """Write a declaration by hand, perhaps with a source of `builds`."""
        more = f'[[tool.rabbet.sources]]\nname = "hive"\nurl = "{builds}"\nbuilds = true\n' if builds else ""
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "hivescale"\nrequires-python = ">=3.11"\ndependencies = ["queenmark"]\n'
            '[tool.rabbet]\nbuild-from-source = ["queenmark"]\n'
            f'[[tool.rabbet.sources]]\nname = "apiary"\nurl = "../files"\n{more}{LOCKED % colonies}'
        )

    def elsewhere(self, name: str) -> None:
        """Go on as a teammate, who has a store of his own and no environment."""
        self.variables["RABBET_STORE"] = str(self.root / name)
        shutil.rmtree(self.project / ".venv", ignore_errors=True)

    def test_story(self) -> None:
        """It is built once, carried, and taken from a folder or a server; others are not touched by that."""
        self.assertIn("was not built here yet", self.rabbet("carry", "--built", "--to", "../built").out)
        self.rabbet("recreate")
        told = self.rabbet("carry", "--built", "--to", "../built").out
        self.assertIn("1 wheel, ", told)
        self.assertIn("builds = true", told)
        self.assertIn(": 0 new", self.rabbet("carry", "--built", "--to", "../built").out)
        served = {
            f"/built/{path.relative_to(self.root / 'built')}": path.read_bytes()
            for path in (self.root / "built").rglob("*")
            if path.is_file()
        }
        index = self.serve(StandIn(more=served))
        for name, place in (("folder", "../built"), ("server", index.address.replace("simple/", "built"))):
            self.elsewhere(name)
            self.declare(builds=place)
            self.assertTrue(self.rabbet("resolve", "--json").json()["untouched"])
            self.rabbet("recreate")
            self.assertEqual(self.seen.read_text(), "x", "nothing was built again")
            self.rabbet("drift", "--deep")
        self.assertIn("builds of the team", self.rabbet("declare").out)
        self.elsewhere("another")
        self.declare(builds="../built", colonies="13")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual(self.seen.read_text(), "xx", "other options make another build")
        told = self.rabbet("carry", "--built", "--to", "../built").out
        self.assertIn("beside 1 of other builds: 1 new", told)
        self.rabbet("carry", "--built", "--to", "../built", "--target", "linux-x86_64", code=2)
        self.rabbet("carry", "--built", "--to", "../built.tar.gz")
        self.rabbet("carry", "--built", "--to", "../files", code=3)

    def test_tampered(self) -> None:
        """A wheel that is not what the list says, or a list that is none, is refused; no folder is not."""
        self.rabbet("recreate")
        self.rabbet("carry", "--built", "--to", "../built")
        (wheel,) = (self.root / "built").glob("wheels/*/*")
        whole, text = wheel.read_bytes(), (self.root / "built" / "builds.json").read_text()
        other = "queenmark-1.2-cp21-cp21-any.whl"
        for number, (content, listed, code, words) in enumerate(
            (
                (whole[:-1] + b"x", text, 6, "is not the file that was locked"),
                (None, text, 5, "can't be read"),
                (whole, "{", 5, "can't be understood"),
                (whole, text.replace(wheel.name, f"../../{wheel.name}"), 5, "can't be understood"),
                (whole, text.replace(wheel.name, other), 7, "does not fit"),
                (
                    whole,
                    text.replace(wheel.name, wheel.name.replace("queenmark", "waxmark")),
                    7,
                    "something else",
                ),
            )
        ):
            self.elsewhere(str(number))
            self.declare(builds="../built")
            wheel.unlink(missing_ok=True)
            if content is not None:
                wheel.write_bytes(content)
            (self.root / "built" / "builds.json").write_text(listed)
            with self.subTest(words, number=number):
                self.assertIn(words, self.rabbet("recreate", code=code).err)
                self.assertFalse((self.project / ".venv").exists())
                self.assertEqual(self.seen.read_text(), "x")
        shutil.rmtree(self.root / "built")
        self.rabbet("recreate")
        self.assertEqual(self.seen.read_text(), "xx")

    def test_lists(self) -> None:
        """What is written is read; what is no list is refused."""
        self.rabbet("recreate")
        self.rabbet("carry", "--built", "--to", "../built")
        content = (self.root / "built" / "builds.json").read_bytes()
        read = read_built_wheels(content)
        self.assertEqual(built_wheels_text(read).encode(), content)
        whole = json.loads(content)
        for change in (
            {"schema": "rabbet.builds/2"},
            {"wheels": 7},
            {"wheels": [{**whole["wheels"][0], "sha256": "0"}]},
            {"wheels": [{**whole["wheels"][0], "size": -1}]},
            {"wheels": [{**whole["wheels"][0], "facts": []}]},
        ):
            with self.subTest(change), self.assertRaises(NotBuiltWheels):
                read_built_wheels(json.dumps({**whole, **change}).encode())
        for facts in ({**read[0].facts, "runtime": []}, {**read[0].facts, "more": 1}):
            changed = [{**whole["wheels"][0], "facts": facts}]
            self.assertNotEqual(
                read_built_wheels(json.dumps({**whole, "wheels": changed}).encode())[0].identity,
                read[0].identity,
            )
