"""The built program, driven as a user does: in a temporary folder, with a home and a store of its own."""

import contextlib
import io
import json
import os
import re
import shlex
import shutil
import signal
import subprocess
import sys
import tempfile
import tomllib
import unittest
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from zlib import crc32

from rabbet.cli.parsers import parser_for
from rabbet.demo.stand_in import StandIn
from tests.support import PATIENCE
from tests.support.preloaded import Preloaded
from tests.support.schemas import check_document


@cache
def _preloaded() -> Preloaded:
    """The process that runs most commands of these tests."""
    return Preloaded()


def _is_started(run: str, variables: Mapping[str, str]) -> bool:
    """Whether the program is started as users start it: one run in ten, and where variables bear on it."""
    return crc32(run.encode()) % 10 == 0 or any(
        name.startswith(("PYTHON", "LC_", "LANG", "LD_")) for name in variables
    )


@dataclass(frozen=True)
class Outcome:
    """What a run gave back."""

    code: int
    out: str
    err: str

    def json(self) -> dict:
        return json.loads(self.out)


class ProgramCase(unittest.TestCase):
    """Each test gets an empty project folder."""

    def setUp(self) -> None:
        # A suite that runs in the background ignores interruptions, and so would the programs that it starts.
        signal.signal(signal.SIGINT, signal.default_int_handler)
        self.runs = 0
        self.fresh()

    def fresh(self) -> None:
        """An empty project, with a home and a store of its own; what was made before is out of the way."""
        holder = tempfile.TemporaryDirectory(prefix="rabbet-test-")
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name).resolve()
        self.project = self.root / "hivescale"
        self.project.mkdir()
        (self.root / "home").mkdir()
        self.variables = {
            "HOME": str(self.root / "home"),
            "XDG_CONFIG_HOME": str(self.root / "home" / "config"),
            "PATH": os.pathsep.join([str(Path(os.path.realpath(sys.executable)).parent), "/usr/bin", "/bin"]),
            "RABBET_STORE": str(self.root / "store"),
            "LANG": "C.UTF-8",
        }

    def rabbet(
        self,
        *arguments: str,
        folder: Path | None = None,
        code: int = 0,
        before: Sequence[str] = (),
        **variables: str,
    ) -> Outcome:
        """Run a command (behind the words of `before`, if any) and check its exit code."""
        place, environ = folder or self.project, {**self.variables, **variables}
        self.runs += 1
        if before or _is_started(f"{self.id()} {self.runs}", variables):
            done = subprocess.run(
                [*before, *self.command(*arguments)],
                cwd=place,
                env=environ,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                text=True,
                timeout=PATIENCE,
                check=False,
            )
        else:
            done = _preloaded().run(arguments, place, environ, PATIENCE)
        self.assertEqual(done.returncode, code, f"{arguments}\n{done.stdout}\n{done.stderr}")
        self.assertNotIn("Traceback", done.stderr)
        self.check_ways(done.stderr)
        own = arguments[: arguments.index("--")] if "--" in arguments else arguments
        if "--json" in own and done.stdout.startswith("{"):
            check_document(done.stdout)
        return Outcome(done.returncode, done.stdout, done.stderr)

    def completed(self, line: str) -> list[str]:
        """What may stand behind a line, as a shell asks for it when Tab is pressed."""
        answer = self.root / "answer"
        asked = {"_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "_ARGCOMPLETE_STDOUT_FILENAME": str(answer)}
        subprocess.run(
            self.command(),
            cwd=self.project,
            env={**self.variables, **asked, "COMP_LINE": line, "COMP_POINT": str(len(line))},
            check=False,
            capture_output=True,
            timeout=PATIENCE,
        )
        return [word.strip() for word in answer.read_text().splitlines()]

    def check_ways(self, error: str) -> None:
        """Behind every `try` and `or` stands a command that exists, with arguments that it takes."""
        for line in re.findall(r"^  (?:try|or ) {5}(.*)", error, re.MULTILINE):
            words = [*shlex.split(line), "&&"]
            while words:
                command, words = words[: words.index("&&")], words[words.index("&&") + 1 :]
                if command[0] != "rabbet":
                    self.assertTrue(command[0] in ("cd", "exit") or shutil.which(command[0]), line)
                elif command[1] not in ("help", "--help"):
                    with contextlib.suppress(SystemExit), contextlib.redirect_stdout(io.StringIO()):
                        parser_for(command[1]).parse_args(command[2:])

    @staticmethod
    def command(*arguments: str) -> list[str]:
        return [sys.executable, "-m", "rabbet", *arguments]

    def begin(self, source: str, *libraries: str, runtime: str = "python>=3.11") -> None:
        """Start a declaration with a source."""
        named = ["--name", "hivescale", "--runtime", runtime, "--source", source]
        self.rabbet("begin", *named, *libraries)

    def git(self, *arguments: str, code: int = 0) -> str:
        """Run git in the project, as somebody with a name; what it prints."""
        named = ["git", "-c", "user.name=bee", "-c", "user.email=bee@apiary.example", *arguments]
        done = subprocess.run(named, cwd=self.project, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, code, done.stderr)
        return done.stdout

    def serve(self, index: StandIn) -> StandIn:
        """Let a stand-in index serve until the test ends."""
        self.enterContext(index)
        return index

    def findings(self, *options: str, code: int = 1) -> dict[tuple[str, str], dict]:
        """The findings of `drift`, by kind and name."""
        found = self.rabbet("drift", *options, "--json", code=code).json()["findings"]
        return {(finding["kind"], finding["name"]): finding for finding in found}

    def steps(self, *options: str) -> list[dict]:
        """The steps of `recreate` that changed anything."""
        found = self.rabbet("recreate", *options, "--json").json()["steps"]
        return [step for step in found if step["action"] != "keep"]

    @property
    def site(self) -> Path:
        """The folder that libraries are imported from."""
        return next((self.project / ".venv" / "lib").glob("*/site-packages"))

    def tree(self, *names: str) -> dict[str, bytes]:
        """The content of the project's files (all, or those named), to compare before and after."""
        paths = [self.project / name for name in names] if names else sorted(self.project.rglob("*"))
        return {str(path): path.read_bytes() for path in paths if path.is_file()}

    def installed(self) -> dict[str, str]:
        """Names and versions as the environment's own interpreter sees them."""
        code = (
            "import importlib.metadata as m, json;"
            "print(json.dumps({d.metadata['Name']: d.version for d in m.distributions()}))"
        )
        return self.rabbet("run", "python", "-c", code).json()

    def locked(self) -> dict[str, str]:
        """Names and versions in the lock."""
        lock = tomllib.loads((self.project / "pylock.toml").read_text())
        return {package["name"]: package["version"] for package in lock["packages"]}
