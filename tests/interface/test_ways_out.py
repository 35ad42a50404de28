"""What a command advises leads out: each line behind `try` and `or` is pasted into a shell."""

import re
import shlex
import shutil
import subprocess
import sys
import tomllib

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from rabbet.demo.stand_in import StandIn
from tests.support.program import ProgramCase

HERE = f"{sys.version_info.major}.{sys.version_info.minor}"
TAG = f"cp{HERE.replace('.', '')}-cp{HERE.replace('.', '')}"
MADE = [
    MadeUp(name="foragemap", version="0.9", code=""),
    *(
        MadeUp(name="foragemap", version="1.0", tag=f"{TAG}-{platform}", code="")
        for platform in ("manylinux_2_17_x86_64", "manylinux_2_17_aarch64", "macosx_12_0_arm64")
    ),
    MadeUp(name="skepio", version="1.0", code=""),
    MadeUp(name="skepio", version="2.0", tag=f"{TAG}-manylinux_2_34_x86_64", code=""),
    MadeUp(name="skepio", version="2.1", tag=f"{TAG}-manylinux_2_34_x86_64", code=""),
    MadeUp(name="honeyflow", version="1.0", needs=("skepio>=2",), extras=("maps",), code=""),
    MadeUp(name="combframe", version="1.0", code=""),
    MadeUp(name="combframe", version="2.0", code=""),
    MadeUp(name="nectarplot", version="1.0", needs=("combframe<2",), code=""),
    MadeUp(
        name="nectarplot", version="2.0", needs=("combframe>=2", "queenmark>=9; extra == 'fast'"), code=""
    ),
    MadeUp(name="queenmark", version="1.0", code=""),
]
TEXT = """[project]
name = 'hivescale'
version = '1'
{}
{}
[tool.rabbet]
{}
[[tool.rabbet.sources]]
name = 'main'
url = '../wheels'
"""
# title, what stands in [project], in other tables, and in [tool.rabbet]
CLASHES = [
    (
        "three targets",
        "dependencies = ['foragemap>=1']",
        "",
        "targets = ['linux-x86_64', 'macos-arm64', 'windows-x86_64']",
    ),
    ("a baseline", "dependencies = ['skepio>=2']", "", "targets = ['linux-x86_64']"),
    (
        "an included group",
        "dependencies = ['nectarplot>=2']",
        "[dependency-groups]\nall = [{ include-group = 'old' }]\nold = ['combframe<2']",
        "",
    ),
    (
        "an extra of the project's own",
        "dependencies = ['hivescale[plots]', 'combframe<2']\noptional-dependencies.plots = ['nectarplot>=2']",
        "",
        "",
    ),
    (
        "an entry under a marker",
        "dependencies = ['combframe', \"combframe<2; os_name != 'x'\", 'nectarplot>=2']",
        "",
        "",
    ),
    (
        "a correction",
        "dependencies = ['nectarplot>=2', 'combframe']",
        "",
        "corrections.'nectarplot==2.0' = { drop = ['combframe'], add = ['combframe<2', 'combframe>=2'] }",
    ),
    ("two clashes", "dependencies = ['nectarplot[fast]>=2', 'foragemap>=3']", "", ""),
    ("a variant", "dependencies = ['nectarplot>=2']", "", "variants.old.requirements = ['combframe<2']"),
    ("names that nobody knows", "dependencies = ['nectarplod>=1', 'combframer']", "", ""),
]

# what is typed (its words are parted by |), how it ends, and the command that was meant
MEANT = [
    ("declare|skepio=0.3|pollencsv", 3, "declare skepio==0.3 pollencsv"),
    ("declare|skepio@0.3", 3, "declare skepio==0.3"),
    ("declare|--group|checks|skepio ^0.3", 3, "declare --group checks 'skepio>=0.3,<0.4'"),
    ("declare|--limit|combframe=>2", 3, "declare --limit 'combframe>=2'"),
    ("declare|--limit=combframe=2.1", 3, "declare --limit=combframe==2.1"),
    ("declare|../tallywax", 2, "declare tallywax --local tallywax ../tallywax"),
    ("declare|WHEEL", 2, "declare 'skepio @ WHEEL'"),
    ("declare|https://apiary.example/wax.git", 2, "declare 'wax @ git+https://apiary.example/wax.git'"),
    ("declare|git@apiary.example:team/wax", 2, "declare 'wax @ git+ssh://git@apiary.example/team/wax'"),
    ("declare|../wheels", 2, "declare --source other=../wheels"),
    ("retract|nectarplod", 2, "retract nectarplot"),
    ("retract|--group|check", 2, "retract --group checks"),
    ("resolve|--raise|nectarplod", 2, "resolve --raise nectarplot"),
    ("recreate|--grup|checks", 2, "recreate --group checks"),
    ("recreate|--group|chekcs", 2, "recreate --group checks"),
    ("lookup|plot", 4, "lookup nectarplot"),
    ("run|--from|WHEEL|--|python|-V", 2, "run --taken-from PLACE -- python -V"),
    ("run|pyhton|-V", 7, "run python -V"),
]


class WaysOut(ProgramCase):
    """Stories with their ends."""

    def paste(self, line: str, code: int = 0) -> str:
        """Run a line in a shell where `rabbet` is this program; what it printed."""
        given = f'rabbet() {{ {shlex.quote(sys.executable)} -m rabbet "$@"; }}\n{line}'
        done = subprocess.run(
            ["sh", "-c", given],
            cwd=self.project,
            env=self.variables,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, code, f"{line}\n{done.stdout}\n{done.stderr}")
        return done.stdout

    @staticmethod
    def ways(error: str) -> list[str]:
        return re.findall(r"^  (?:try|or ) {5}(.*)", error, re.MULTILINE)

    def test_every_suggestion_helps(self) -> None:
        """Whatever is advised where there is no solution leads to one, in any place of a declaration."""
        write_files(self.root / "wheels", MADE)
        path = self.project / "pyproject.toml"
        for title, project, tables, settings in CLASHES:
            text = TEXT.format(project, tables, settings)
            path.write_text(text)
            ways = self.ways(self.rabbet("resolve", code=4).err)
            self.assertTrue(ways, title)
            for way in ways:
                with self.subTest(title, way=way):
                    path.write_text(text)
                    self.paste(f"{way} && rabbet resolve")

    def test_a_teammate_with_another_python(self) -> None:
        """The lock is widened so that it serves both, and nobody's is taken from them."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2", runtime="python>=3.8")
        self.rabbet("resolve")
        lock, declaration = self.project / "pylock.toml", self.project / "pyproject.toml"
        environments = tomllib.loads(lock.read_text())["environments"]
        self.assertEqual(len(environments), 7)
        elsewhere = lock.read_text()
        for environment in environments:
            if "'3.9'" not in environment:
                elsewhere = elsewhere.replace(f'    "{environment}",\n', "")
        lock.write_text(elsewhere)
        self.assertEqual(self.ways(self.rabbet("recreate", code=7).err), ["rabbet resolve"])
        declaration.write_text(f'{declaration.read_text()}\n[tool.rabbet]\npythons = ["3.9"]\n')
        error = self.rabbet("recreate", code=7).err
        self.paste(self.ways(error)[0])
        self.assertEqual(len(tomllib.loads(lock.read_text())["environments"]), 2)
        self.rabbet("recreate")

    def test_a_lock_edited_by_hand(self) -> None:
        """The edit is named by whoever stumbles over it, and the lock is written whole again."""
        self.begin(self.serve(StandIn()).address, "combframe")
        self.rabbet("resolve")
        lock = self.project / "pylock.toml"
        good = lock.read_text()
        lock.write_text(re.sub(r'sha256 = "....', 'sha256 = "0000', good, count=1))
        self.assertIn("combframe 2.1", self.rabbet("resolve", "--verify", code=1).out)
        error = self.rabbet("recreate", code=6).err
        self.assertIn("combframe 2.1", error)
        self.assertIn("combframe 2.1", self.paste(self.ways(error)[0]))
        self.assertEqual(lock.read_text(), good)
        lock.write_text(good.replace("dependency-groups = []", 'dependency-groups = ["checks"]'))
        self.assertIn("the lock itself", self.rabbet("resolve").out)
        self.rabbet("recreate")

    def test_in_one_step(self) -> None:
        """`--now` goes on to the environment; a failure leaves declaration, lock and environment alone."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("declare", "skepio", "--now")
        self.assertIn("skepio", self.installed())
        before = self.tree()
        self.rabbet("declare", "--limit", "combframe<2", "--now", code=4)
        self.rabbet("retract", "skepio", "nectarplod", "--now", code=2)
        dated = self.rabbet("declare", "--as-of", "2025-03-01", "--now", code=4).err
        self.assertIn("&& rabbet declare --as-of 2025-03-01 --now", dated)
        self.assertNotIn("retract --as-of", dated, "it is not declared any more")
        # the declaration can be written, and the lock cannot
        error = self.rabbet("declare", "pollencsv", "--now", code=7, before=["prlimit", "--fsize=1500"]).err
        self.assertIn("can't be written", error)
        self.assertEqual(self.tree(), before)
        self.assertEqual(self.rabbet("recreate", "--strict").code, 0)
        self.rabbet("retract", "skepio", "--now")
        self.assertNotIn("skepio", self.installed())
        self.rabbet("declare", "nectarplot[maps]")
        self.rabbet("recreate", "--strict", code=1)
        patches = " or ".join(f'python_full_version == "3.{minor}.98"' for minor in range(8, 30))
        self.rabbet("declare", f"tallywax; {patches}")
        told = self.rabbet("resolve").out
        self.assertIn("'maps'", told)
        self.assertIn("Depends on the patch release of Python: hivescale needs tallywax; ", told)

    def test_what_others_get_wrong(self) -> None:
        """Limits, what is kept out, and corrections: in the lock, in answers, and of no concern to drift."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("resolve")
        shutil.copy(self.project / "pylock.toml", self.root / "before.toml")
        self.rabbet("declare", "--limit", "combframe<2.1", "--without", "tallywax")
        path = self.project / "pyproject.toml"
        wrong = (
            '"nectarplot==2.1" = { drop = ["skepio"], add = ["queenmark"] }\n"combframe" = { drop = [] }\n'
        )
        path.write_text(f"{path.read_text()}\n[tool.rabbet.corrections]\n{wrong}")
        self.rabbet("resolve", code=3)
        path.write_text(path.read_text().replace('"combframe" =', '"combframe>=1" ='))
        told = self.rabbet("resolve").out
        self.assertIn("combframe>=1", told)
        self.assertEqual(self.locked(), {"combframe": "2.0", "nectarplot": "2.1", "queenmark": "1.1"})
        self.rabbet("recreate")
        self.rabbet("drift")
        self.assertIn("with queenmark", self.rabbet("explain", "nectarplot").out)
        compared = self.rabbet("compare", str(self.root / "before.toml")).out
        for words in ("sets the limit combframe<2.1", "keeps it out", "nectarplot 2.1 needs queenmark"):
            self.assertIn(words, told)
            self.assertIn(words, compared)

    def test_all_variants(self) -> None:
        """What helps every variant comes first; what none of the ways mends is told."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2", "combframe<2")
        path = self.project / "pyproject.toml"
        plain = path.read_text()
        for wanted, first in (
            ("combframe>=2.1", "retract combframe"),
            ("tallywax>=1", "declare 'nectarplot>=1.9'"),
        ):
            path.write_text(f'{plain}\n[tool.rabbet.variants.old]\nrequirements = ["{wanted}"]\n')
            error = self.rabbet("resolve", code=4).err
            self.assertEqual(self.ways(error)[0], f"rabbet {first}")
            self.assertNotIn("leaves a clash", error)
        path.write_text(f'{plain}\n[tool.rabbet.variants.old]\nrequirements = ["skepio>9"]\n')
        error = self.rabbet("resolve", code=4).err
        self.assertIn(" clash in the variant old\n", error)

    def test_as_meant(self) -> None:
        """What is typed in another spelling, or by a near name, comes back as the command that was meant."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("declare", "--group", "checks", "mitewatch")
        self.rabbet("resolve")
        self.rabbet("recreate")
        checkout = self.root / "tallywax"
        checkout.mkdir()
        (checkout / "pyproject.toml").write_text("[project]\nname = 'tallywax'\nversion = '9'\n")
        write_files(self.root / "wheels")
        wheel = next((self.root / "wheels").glob("skepio-0.4-*"))
        for given, code, first in MEANT:
            with self.subTest(given):
                words = [word.replace("WHEEL", str(wheel)) for word in given.split("|")]
                error = self.rabbet(*words, code=code).err
                expected = first.replace("WHEEL", wheel.as_uri()).replace("PLACE", str(wheel))
                self.assertEqual(self.ways(error)[0], f"rabbet {expected}")
                before = self.tree("pyproject.toml", "pylock.toml")
                self.paste(self.ways(error)[0])
                for name, content in before.items():
                    (self.project / name.rpartition("/")[2]).write_bytes(content)
        self.assertEqual(
            self.rabbet("declare", "python>=3.8", "--json").json()["as_runtimes"], ["python>=3.8"]
        )
        self.rabbet("declare", "node>=4")
        self.assertEqual(self.rabbet("retract", "node", "--json").json()["as_runtimes"], ["node"])

    def test_unreadable_needs(self) -> None:
        """A release whose metadata holds no requirement is set aside, unless a correction drops that."""
        broken = MadeUp(name="hivewire", version="9.0", needs=("skepio (>dev)", "combframe>=1"))
        write_files(self.root / "wheels", [broken])
        self.begin("../wheels", "hivewire")
        self.rabbet("declare", "--source", f"other={self.serve(StandIn()).address}")
        self.assertIn("'skepio (>dev)'", self.rabbet("resolve", code=4).err)
        path = self.project / "pyproject.toml"
        path.write_text(
            f"{path.read_text()}\n[tool.rabbet.corrections]\n'hivewire==9.0' = {{ drop = ['skepio'] }}\n"
        )
        self.assertNotIn("changes nothing", self.rabbet("resolve").out)
        self.assertEqual(self.locked().keys(), {"combframe", "hivewire", "tallywax"})
        self.rabbet("recreate")
        self.rabbet("drift", "--deep")
        self.rabbet("explain", "hivewire")
        path.write_text(path.read_text().replace("drop = ['skepio']", "drop = ['hivewire']"))
        self.assertIn("METADATA is gone or can't be read", self.rabbet("drift", code=1).out)

    def test_explained_without_a_network(self) -> None:
        """The lock's own edges are told where nothing else is known; a typo gets the near name."""
        self.begin(self.serve(StandIn()).address, "nectarplot>=2")
        self.rabbet("resolve")
        shutil.rmtree(self.root / "store")
        told = self.rabbet("explain", "combframe", "--offline", "--json").json()
        self.assertEqual([step["requirer"] for step in told["paths"][0]], [None, "nectarplot"])
        self.assertIsNone(told["held_back"])
        self.assertEqual(
            self.ways(self.rabbet("explain", "combfrane", code=2).err), ["rabbet explain combframe"]
        )
        self.rabbet("recreate")
        self.assertIn("Discarded", self.rabbet("envs", "discard", "hivescale", folder=self.root).out)
