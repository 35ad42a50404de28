"""Libraries that exist as sources only: built once, kept, and what goes wrong with a build."""

import json
import signal
import subprocess
import sys
import time
import tomllib
import unittest
from pathlib import Path

from rabbet.demo.files import write_files
from rabbet.demo.libraries import RELEASES, MadeUp
from rabbet.python.builds.missing import missing_in
from tests.support import PATIENCE
from tests.support.program import ProgramCase
from tests.support.sources import source_archive

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "builds.toml").read_text())


def alive(pid: int) -> bool:
    """Whether a process runs (what nobody waited for yet does not)."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


class Builds(ProgramCase):
    """A folder of files is the source: `queenmark 1.2` has no wheel there."""

    def setUp(self) -> None:
        super().setUp()
        self.files = self.root / "files"
        write_files(self.files, RELEASES)
        self.seen = self.root / "seen"

    def declare(self, *requirements: str, allowed: str = "queenmark", more: str = "") -> None:
        """Write a declaration by hand."""
        (self.project / "pyproject.toml").write_text(
            '[project]\nname = "hivescale"\nrequires-python = ">=3.11"\n'
            f"dependencies = {list(requirements or ['queenmark'])}\n"
            f"[tool.rabbet]\nbuild-from-source = {[allowed]}\n"
            f'[[tool.rabbet.sources]]\nname = "apiary"\nurl = "../files"\n{more}'
        )

    def offer(self, hook: str = "return well(folder, 'queenmark', '1.2')", **more: object) -> None:
        """Put a source archive among the files."""
        (self.files / "queenmark-1.2.tar.gz").write_bytes(source_archive(hook, **more))

    def counted(self) -> str:
        """A hook that leaves a line for each time it is called."""
        return f"Path({str(self.seen)!r}).open('a').write('x'); return well(folder, 'queenmark', '1.2')"

    def test_failures(self) -> None:
        """Each ends in a message, and the environment is as it was."""
        self.declare("queenmark<1.2")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.declare("queenmark>=1.2")
        for case in TABLE["failing"]:
            with self.subTest(case["about"]):
                self.offer(
                    case.get("hook", "return 1"), files=case.get("files"), without=case.get("without", ())
                )
                before = self.tree(".venv/rabbet.json")
                told = self.outcome(case.get("code", 7), case.get("seconds", PATIENCE))
                for text in case["said"]:
                    self.assertIn(text, told)
                self.assertEqual(self.tree(".venv/rabbet.json"), before)
                for log in (self.root / "store").glob("*/build-logs/*"):
                    self.assertLess(log.stat().st_size, 5_000_000)
                self.assertEqual(list((self.root / "store").glob("*/building/*")), [])

    def outcome(self, code: int, seconds: int) -> str:
        """What is said by the first of resolving and recreating that fails."""
        for command in (("resolve", "--fresh-listings"), ("recreate",)):
            done = subprocess.run(
                self.command(*command),
                cwd=self.project,
                env={**self.variables, "RABBET_BUILD_SECONDS": str(seconds)},
                capture_output=True,
                text=True,
                check=False,
            )
            if done.returncode:
                self.assertEqual(done.returncode, code, done.stderr)
                self.check_ways(done.stderr)
                break
        return done.stderr

    def test_not_allowed(self) -> None:
        """What has no wheel is not built in silence: the refusal says what it would mean, and the way."""
        self.offer()
        self.declare("queenmark>=1.2", allowed="skepio")
        told = self.rabbet("resolve", code=4).err
        self.assertIn("runs its own code", told)
        self.assertIn("try     rabbet declare --build-from-source queenmark", told)
        self.rabbet("declare", "--build-from-source", "queenmark")
        self.rabbet("resolve")
        lock = self.project / "pylock.toml"
        self.rabbet("retract", "--build-from-source", "queenmark")
        told = self.rabbet("recreate", code=7).err
        self.assertIn("queenmark 1.2", told)
        write_files(self.files, [MadeUp(name="honeyjar", version="1.0", sdist=True, code="")])
        self.declare("queenmark>=1.2", "honeyjar", allowed="skepio")
        both = "rabbet declare --build-from-source honeyjar queenmark"
        each = "rabbet declare --build-from-source honeyjar && rabbet declare --build-from-source queenmark"
        self.assertIn(f"try     {each}\n", self.rabbet("resolve", code=4).err)
        self.rabbet(*both.split()[1:])
        self.rabbet("resolve")
        self.rabbet("retract", "--build-from-source", "queenmark", "honeyjar")
        told = self.rabbet("recreate", code=7).err
        self.assertIn("2 libraries", told)
        self.assertIn(f"{both} && ", told)
        self.assertIn("requires = []", lock.read_text())

    def test_once(self) -> None:
        """What was built is kept for all environments, until its sources or its requirements are others."""
        self.offer(self.counted())
        self.declare()
        self.rabbet("resolve")
        for _ in range(2):
            self.rabbet("recreate", "--fresh")
            self.rabbet("drift")
        self.assertEqual(self.seen.read_text(), "x")
        state = json.loads((self.project / ".venv" / "rabbet.json").read_text())
        self.assertEqual(len(state["libraries"]["queenmark"]["build"]), 64)
        self.offer(self.counted(), files={"more.py": "x = 1"})
        self.rabbet("resolve", "--raise-all")
        self.assertIn("built-otherwise", {finding["reason"] for finding in self.findings().values()})
        self.rabbet("recreate")
        self.assertEqual(self.seen.read_text(), "xx")

    def test_learned(self) -> None:
        """A wheel that was built to learn what it needs is used; what else is wrong with it is told then."""
        untold = {"PKG-INFO": "Metadata-Version: 2.1\nName: queenmark\nVersion: 1.2\n\n"}
        self.offer(self.counted(), files=untold)
        self.declare(more='[tool.rabbet.builds.queenmark]\nneeds = ["skepio"]\n')
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual(self.seen.read_text(), "x")
        self.rabbet("drift")
        self.offer("return well(folder, 'queenmark', '1.2', 'cp21-cp21-any')", files=untold)
        self.assertIn("does not fit", self.rabbet("resolve", "--raise-all", code=7).err)

    def test_options(self) -> None:
        """A build gets the variables, settings and needs that are locked for it."""
        told = (
            f"open({str(self.seen)!r}, 'a').write(os.environ['COLONIES'] + str(settings) + skepio.__name__)"
        )
        self.offer(f"import skepio; {told}; return well(folder, 'queenmark', '1.2')")
        for colonies in ("12", "13"):
            self.declare(
                more="[tool.rabbet.system]\ndebian = ['dpkg']\n"
                "[tool.rabbet.builds.queenmark]\nneeds = ['skepio']\nsystem = { debian = ['libwax-dev'] }\n"
                f"variables = {{ COLONIES = '{colonies}' }}\nsettings = {{ '--wax' = 'thin \"one\"' }}\n"
            )
            if colonies == "13":
                self.assertIn("The declaration changed", self.rabbet("recreate").out)
            self.rabbet("resolve")
            self.rabbet("recreate")
            self.rabbet("recreate", "--fresh")
        settings = {"--wax": 'thin "one"'}
        self.assertEqual(self.seen.read_text(), f"12{settings}skepio13{settings}skepio")
        (build,) = tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"]["builds"]
        self.assertEqual(build["variables"], {"COLONIES": "13"})
        self.assertEqual(build["settings"], settings)
        self.assertIn("skepio", [library["name"] for library in build["packages"]])
        declared = self.rabbet("declare").out
        self.assertIn("setting --wax=thin", declared)
        self.assertRegex(declared, r"(?m)^system +dpkg \(debian\)\nfor builds +libwax-dev \(debian\)$")
        told = 'Its build gets: COLONIES=13, setting --wax=thin "one", needs skepio.'
        self.assertIn(told, self.rabbet("explain", "queenmark").out)
        self.rabbet("drift")

    def test_at_once(self) -> None:
        """Two processes that need the same build make it once."""
        self.offer(f"import time; time.sleep(1); {self.counted()}")
        self.declare()
        self.rabbet("resolve")
        other = self.root / "other"
        other.mkdir()
        for name in ("pyproject.toml", "pylock.toml"):
            (other / name).write_bytes((self.project / name).read_bytes())
        runs = [
            subprocess.Popen(
                self.command("recreate"),
                cwd=folder,
                env=self.variables,
                stderr=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
            )
            for folder in (self.project, other)
        ]
        self.assertEqual([run.wait() for run in runs], [0, 0])
        self.assertEqual(self.seen.read_text(), "x")

    def test_surroundings(self) -> None:
        """A build sees a home, variables and requirements of its own, and no secret."""
        self.offer(
            f"import json, tallywax; Path({str(self.seen)!r}).write_text(json.dumps(dict(os.environ)));"
            "return well(folder, 'queenmark', '1.2')",
            files={
                "pyproject.toml": "[build-system]\nrequires = ['tallywax<1.2']\nbuild-backend = 'backend'\n"
                "backend-path = ['.']\n"
            },
        )
        self.declare()
        self.rabbet("resolve", SECRET="honey")
        self.rabbet("recreate", SECRET="honey")
        seen = json.loads(self.seen.read_text())
        own = {"HOME", "LANG", "PATH", "SOURCE_DATE_EPOCH", "TMPDIR"}
        self.assertEqual(set(seen) - {"LC_CTYPE"}, own)
        self.assertNotIn(str(self.root / "home"), seen["HOME"])
        self.assertEqual(list(self.installed()), ["queenmark"])
        builds = tomllib.loads((self.project / "pylock.toml").read_text())["tool"]["rabbet"]["builds"]
        self.assertEqual([package["version"] for package in builds[0]["packages"]], ["1.1"])
        self.rabbet("resolve", "--verify")

    def test_nothing_stays(self) -> None:
        """What a build starts ends with it, wherever that went, and whoever is killed or stopped."""
        sleeping = f"{sys.executable!r}, ['python', '-c', 'import time; time.sleep(600)'], {{}}"
        seen, partly = str(self.seen), f"{self.seen}.partly"  # who sees the name sees the number too
        daemon = (
            "import time\n    above = os.getppid()\n    if os.fork() == 0:\n        os.setsid()\n"
            "        if os.fork() == 0:\n"
            f"            Path({partly!r}).write_text(str(os.getpid()))\n"
            f"            os.rename({partly!r}, {seen!r})\n"
            f"            os.execve({sleeping})\n        os._exit(0)\n    os.wait()\n"
            f"    while not os.path.exists({seen!r}): time.sleep(0.01)\n"
        )
        for ending in (
            "    return well(folder, 'queenmark', '1.2')",
            "    time.sleep(600)",
            "    os.kill(above, 9)",
            "    os.kill(above, 19)",
        ):
            with self.subTest(ending):
                self.seen.unlink(missing_ok=True)
                self.offer(daemon + ending)
                self.declare()
                self.rabbet("resolve", "--raise-all")
                run = subprocess.Popen(
                    self.command("recreate", "--quiet", "--json"),
                    cwd=self.project,
                    env=self.variables,
                    stdout=subprocess.DEVNULL,
                    stderr=subprocess.DEVNULL,
                )
                until = time.monotonic() + PATIENCE
                while not self.seen.exists() and time.monotonic() < until:
                    time.sleep(0.02)
                pid = int(self.seen.read_text())
                if "sleep" in ending:
                    run.send_signal(signal.SIGKILL)
                run.wait()
                while alive(pid) and time.monotonic() < until:
                    time.sleep(0.02)
                self.assertFalse(alive(pid))
        self.offer()
        self.rabbet("resolve", "--raise-all")
        self.rabbet("recreate")

    def test_back_end_that_is_built(self) -> None:
        """What a build needs may have to be built before it, if that is allowed."""
        (self.files / "combwright-1.1-py3-none-any.whl").unlink()
        (self.files / "combwright-1.0-py3-none-any.whl").unlink()
        tree = (
            "[build-system]\nrequires = []\nbuild-backend = 'combwright'\nbackend-path = ['.']\n"
            "[project]\nname = 'combwright'\nversion = '1.2'\n"
        )
        own = MadeUp(name="combwright", version="1.2", sdist=True, more=(("pyproject.toml", tree),))
        write_files(self.files, [own, MadeUp(name="queenmark", version="1.2", sdist=True)])
        self.declare()
        self.assertIn("combwright", self.rabbet("resolve", code=4).err)
        self.rabbet("declare", "--build-from-source", "combwright")
        self.rabbet("resolve")
        self.rabbet("recreate")
        self.assertEqual(self.installed(), {"queenmark": "1.2"})


class Missing(unittest.TestCase):
    """What a failed build prints about something that is not there."""

    def test_table(self) -> None:
        for row in TABLE["missing"]:
            with self.subTest(row["output"]):
                told = missing_in(row["output"], "queenmark")
                self.assertEqual(len(told), len(row["told"]))
                for sentence, expected in zip(told, row["told"], strict=True):
                    self.assertIn(f"its output names a missing {expected}", sentence)
