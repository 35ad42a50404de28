"""On a terminal: questions, colour, and the demo as a newcomer sees it."""

import fcntl
import os
import pty
import re
import select
import shutil
import socket
import subprocess
import sys
import termios
import time
import tomllib

from rabbet.demo.libraries import MadeUp
from rabbet.demo.play import CHAPTERS
from rabbet.demo.runtimes import LANGUAGE, shelf
from rabbet.demo.stand_in import Fault, Manner, StandIn
from tests.interface.test_own_build import BACKEND, SYSTEM
from tests.support import PATIENCE
from tests.support.program import ProgramCase

CODES = re.compile(r"\x1b\[[0-9;]*m")


class Terminal(ProgramCase):
    """The program between a terminal's two ends."""

    def converse(self, *arguments: str, answers: list[tuple[str, str]]) -> tuple[int, str]:
        """Run a command on a terminal; each answer is typed once its question is on the screen."""
        ours, theirs = pty.openpty()
        process = subprocess.Popen(
            self.command(*arguments),
            cwd=self.project,
            env={**self.variables, "TERM": "xterm"},
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            start_new_session=True,
            # Some shells want the terminal to be theirs; no thread runs here that this could harm.
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),  # noqa: PLW1509
        )
        os.close(theirs)
        screen, waiting = "", list(answers)
        deadline = time.monotonic() + PATIENCE
        while select.select([ours], [], [], max(0, deadline - time.monotonic()))[0]:
            try:
                piece = os.read(ours, 4096)
            except OSError:  # the other end is closed: the program has ended
                break
            if not piece:
                break
            screen += piece.decode()
            if waiting and waiting[0][0] in screen:
                os.write(ours, waiting.pop(0)[1].encode() + b"\r")
        os.close(ours)
        self.assertEqual(waiting, [], screen)
        return process.wait(timeout=PATIENCE), screen

    def test_begin_asks(self) -> None:
        """What was not given is asked for, a bad answer again; the file is shown and confirmed."""
        index = self.serve(StandIn())
        answers = [
            ("name of the project", "-swarm"),
            ("can't be a project's name", "swarm"),
            ("number, or your own", "perl>=5"),
            ("is not a version of Python", ">=3.9"),
            ("first libraries (empty: none): ", "nectarplot=>2"),
            ("is not a requirement", "'nectarplot>=2, <3', skepio"),
            ("folder (empty: none yet): ", "http://["),
            ("is not an address", f"{index.address}x/"),
            ("is not an index", index.address),
            ("it lists", "y"),
            ("Write this file?", ""),
        ]
        code, screen = self.converse("begin", answers=answers)
        self.assertEqual(code, 0, screen)
        self.assertIn("1  python>=3.", screen)
        declared = tomllib.loads((self.project / "pyproject.toml").read_text())
        self.assertEqual(declared["project"]["name"], "swarm")
        self.assertEqual(declared["project"]["requires-python"], ">=3.9")
        self.assertEqual(declared["project"]["dependencies"], ["nectarplot>=2,<3", "skepio"])
        self.assertEqual(declared["tool"]["rabbet"]["sources"][0]["url"], index.address)
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        self.assertEqual(tomllib.loads(settings.read_text())["source"], index.address)

    def test_recreate_offers_to_obtain(self) -> None:
        """A missing runtime that can be had is offered; a no leaves everything as it was."""
        served = {f"/shelf/{name}": content for name, content in shelf(["2.1"]).items()}
        index = self.serve(StandIn(more=served))
        self.begin(index.address)
        with (self.project / "pyproject.toml").open("a") as file:
            file.write(f"\n{LANGUAGE}")
        catalogue = f"{index.address.removesuffix('simple/')}shelf/catalogue.json"
        self.rabbet("declare", "--runtime", "waggle", "--catalogue", catalogue)
        self.rabbet("resolve")
        before = self.tree()
        code, screen = self.converse("recreate", answers=[("Obtain it?", "n")])
        self.assertEqual((code, self.tree()), (7, before), screen)
        code, screen = self.converse("recreate", answers=[("Obtain it?", "")])
        self.assertEqual(code, 0, screen)
        self.assertIn("waggle 2.1", self.rabbet("run", "waggle").out)

    def test_own_build(self) -> None:
        """The project's own build runs after a yes, which is kept; a no changes nothing."""
        (self.project / "backend.py").write_text(BACKEND.replace("SEEN", repr(str(self.root / "seen"))))
        (self.project / "needs.txt").write_text("skepio\n")
        (self.project / "pyproject.toml").write_text(SYSTEM)
        self.rabbet("begin", "--yes", "--source", self.serve(StandIn()).address)
        before = self.tree()
        code, screen = self.converse("resolve", answers=[("Run it", "n")])
        self.assertEqual((code, self.tree()), (7, before), screen)
        self.assertIn("Its back end is backend, which comes with it in '.'.", screen)
        self.assertFalse((self.root / "seen").exists())
        code, screen = self.converse("resolve", answers=[("Run it", "")])
        self.assertEqual(code, 0, screen)
        self.assertTrue((self.root / "seen").exists())
        code, screen = self.converse("recreate", answers=[])
        self.assertEqual(code, 0, screen)

    def test_progress(self) -> None:
        """What comes slowly has a line of its own, below the one for everything."""
        large = MadeUp(name="pollenatlas", version="1.0", code="x = 1\n", more=(("map.txt", "x" * 900_000),))
        manner = Manner(faults={f"/files/{large.filename}": Fault.TRICKLE})
        self.begin(self.serve(StandIn([large], manner=manner)).address, "pollenatlas")
        self.rabbet("resolve")
        code, screen = self.converse("recreate", answers=[])
        self.assertEqual(code, 0, screen)
        for shown in (r"fetching 1: \d+ kB of 901 kB, ", r"  pollenatlas 1.0: \d+ kB of 901 kB, "):
            self.assertRegex(screen, shown)

    def test_begin_declined(self) -> None:
        """A no writes nothing; what was given is not asked for."""
        given = ["begin", "queenmark", "--name", "x", "--runtime", "python>=3.11", "--source", "wheels"]
        code, screen = self.converse(*given, answers=[("Write this file?", "n")])
        self.assertEqual(code, 1, screen)
        self.assertEqual(self.tree(), {})

    def test_progress_says_what_is_waited_for(self) -> None:
        """On a slow network a line tells what has not come yet; it is gone when the result is there."""
        self.begin(self.serve(StandIn(manner=Manner(latency=0.4))).address, "combframe")
        code, screen = self.converse("resolve", answers=[])
        self.assertEqual(code, 0, screen)
        shown = CODES.sub("", screen)
        self.assertIn("waiting for the listing of tallywax", shown)
        self.assertTrue(shown.rstrip().endswith("Next: rabbet recreate"), shown)

    def test_enter(self) -> None:
        """The user's shell starts inside, with the project's name in its prompt, and can't enter again."""
        self.begin(self.serve(StandIn()).address, "mitewatch")
        self.rabbet("resolve")
        self.rabbet("recreate")
        made = self.root / "home" / ".local" / "share" / "fish" / "generated_completions"
        made.mkdir(parents=True)  # else fish goes on making them after the test
        for shell in filter(shutil.which, ("bash", "zsh", "fish")):
            with self.subTest(shell):
                self.variables["SHELL"] = str(shutil.which(shell))
                again = f"{sys.executable} -m rabbet enter"
                answers = [
                    ("hivescale» ", "which mitewatch"),
                    ("bin/mitewatch", again),
                    ("is inside", "exit 5"),
                ]
                code, screen = self.converse("enter", answers=answers)
                self.assertEqual(code, 5, screen)
                self.assertIn(str(self.project / ".venv" / "bin" / "mitewatch"), screen)

    def test_colour_supports_only(self) -> None:
        """On a terminal there is colour, and the same words; with `NO_COLOR` and in a pipe there is none."""
        self.begin(self.serve(StandIn()).address, "queenmark")
        self.rabbet("resolve")
        plain = self.rabbet("recreate", "--plan").out
        code, screen = self.converse("recreate", "--plan", answers=[])
        self.assertEqual(code, 0)
        self.assertRegex(screen, CODES)
        self.assertIn(CODES.sub("", plain).split("\n")[1], CODES.sub("", screen))
        self.variables["NO_COLOR"] = "1"
        self.assertNotRegex(self.converse("recreate", "--plan", answers=[])[1], CODES)


class Begin(ProgramCase):
    """Without a terminal nothing is asked."""

    def test_completes_what_is_there(self) -> None:
        """An existing file keeps its comments and order, and gets what it lacks; a second time nothing."""
        text = '# old\n[tool.other]\nx = 1 # y\n\n[project]\nname = "old"\ndynamic = ["version"]\n'
        (self.project / "pyproject.toml").write_text(text)
        self.rabbet("begin", "--source", "wheels", "skepio")
        after = (self.project / "pyproject.toml").read_text()
        self.assertTrue(after.startswith(text), after)
        self.assertTrue(after.endswith('\n\n[[tool.rabbet.sources]]\nname = "main"\nurl = "wheels"\n'), after)
        self.assertEqual(tomllib.loads(after)["project"]["dependencies"], ["skepio"])
        self.assertNotIn("version =", after)
        self.assertIn("has that already", self.rabbet("begin", "--source", "wheels").out)
        refused = self.rabbet("begin", "--source", "elsewhere", "--name", "new", code=2).err
        self.assertIn("its name is old", refused)
        self.assertIn("rabbet declare --source other=elsewhere", refused)
        self.assertEqual((self.project / "pyproject.toml").read_text(), after)

    def test_defaults(self) -> None:
        """Name and runtime have defaults: the folder's, and the newest interpreter of the machine."""
        self.rabbet("begin", "--yes")
        declared = tomllib.loads((self.project / "pyproject.toml").read_text())
        self.assertEqual(declared["project"]["name"], "hivescale")
        self.assertRegex(declared["project"]["requires-python"], r"^>=3\.\d+$")


def free_port() -> str:
    """A port that nothing listens on: other suites may run on this machine."""
    with socket.create_server(("127.0.0.1", 0)) as server:
        return str(server.getsockname()[1])


class Demo(ProgramCase):
    """The example plays to its end and leaves what it was told to leave."""

    def test_demo(self) -> None:
        """All commands are printed with what came back; a kept project goes on with a served index."""
        port = free_port()
        shown = self.rabbet("demo", "--keep", "kept", "--port", port).out
        for words in (
            "$ rabbet resolve",
            "week 20 | ####",
            "3 findings, 3 of them breaking",
            "No drift: 5 libraries",
        ):
            self.assertIn(words, shown)
        self.assertLess(shown.count("\n"), 90, "a first look fits into a minute")
        self.assertEqual({path.name for path in self.project.iterdir()}, {"kept"})
        server = subprocess.Popen(
            self.command("demo", "--serve", "--port", port),
            env=self.variables,
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(server.communicate)
        self.addCleanup(server.terminate)
        assert server.stdout is not None
        self.assertIn(f"http://127.0.0.1:{port}/simple/", server.stdout.readline())
        project = self.project / "kept" / "hivescale"
        self.rabbet("declare", "skepio", folder=project)
        self.rabbet("resolve", folder=project)
        self.assertIn("skepio", (project / "pylock.toml").read_text())

    def test_chapters(self) -> None:
        """One after the other, and one by itself; the short one names them all."""
        shown = self.rabbet("demo").out
        for chapter in CHAPTERS:
            self.assertIn(f"rabbet demo {chapter} ", shown)
        self.rabbet("demo", "builds")
        self.rabbet("demo", "--all")
        self.assertEqual(list(self.project.iterdir()), [])
