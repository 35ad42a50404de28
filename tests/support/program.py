"""The built program, driven as a user does: in a temporary folder, with a home and a store of its own."""

import json
import os
import re
import shlex
import shutil
import signal
import stat
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


def _ignored(folder: str, names: list[str]) -> list[str]:
    """The names in a folder that can't be copied: neither files nor folders nor links."""
    kinds = {name: (Path(folder) / name).lstat().st_mode for name in names}
    return [name for name, mode in kinds.items() if stat.S_ISFIFO(mode) or stat.S_ISSOCK(mode)]


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
        self.pasted: set[tuple[str, str]] = set()
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
            "RABBET_STATE": str(self.root / "state"),
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
        self.check_ways(done.stderr, place, environ)
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

    def check_ways(
        self, error: str, folder: Path | None = None, environ: Mapping[str, str] | None = None
    ) -> None:
        """Paste what stands behind `try` and `or`, on a copy: it succeeds, or ends with another error.

        The same advice for the same error in one test is pasted once, and one that waits for people never.
        """
        place = folder or self.project
        message, *_ = re.findall("^error: .*", error, re.MULTILINE) or [""]
        for line in re.findall(r"^  (?:try|or ) {5}(.*)", error, re.MULTILINE):
            waits = re.search(r"rabbet (enter|demo|census serve)\b", line) is not None
            if waits or (message, line) in self.pasted or not place.is_relative_to(self.root):
                continue
            self.pasted.add((message, line))
            whole = self.root.with_name(f"{self.root.name}-whole")
            self.root.rename(whole)
            try:
                shutil.copytree(whole, self.root, symlinks=True, ignore=_ignored)
                done = subprocess.run(
                    ["sh", "-c", f'rabbet() {{ {shlex.quote(sys.executable)} -m rabbet "$@"; }}\n{line}'],
                    cwd=place,
                    env=environ or self.variables,
                    stdin=subprocess.DEVNULL,
                    capture_output=True,
                    text=True,
                    timeout=PATIENCE,
                    check=False,
                )
            finally:
                shutil.rmtree(self.root, ignore_errors=True)
                whole.rename(self.root)
            if done.returncode:
                self.assertNotIn("unrecognized arguments", done.stderr, line)
                self.assertNotIn(f"{message}\n", done.stderr, f"{line} leads back to where it came from")

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
