"""The culprit, found by the built program: states of all forms, and commands that misbehave."""

import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

from rabbet.demo.files import write_files
from rabbet.demo.libraries import MadeUp
from tests.support import PATIENCE
from tests.support.program import ProgramCase

NAMES = ("broodcount", "combframe", "hivewire", "pollencsv", "smokerlog", "tallywax")


def exits(*conditions: str, code: int = 1) -> list[str]:
    """A command that fails where all of these hold, such as `combframe 2.0`."""
    parts = [condition.split() for condition in conditions]
    names = ", ".join(name for name, _ in parts)
    test = " and ".join(f"{name}.__version__ == '{version}'" for name, version in parts)
    return ["python", "-c", f"import sys, {names}; print('looked'); sys.exit({code} if {test} else 0)"]


class Culprits(ProgramCase):
    """Between two locks of six libraries; two of them need each other's newer release."""

    def setUp(self) -> None:
        super().setUp()
        needs = {("smokerlog", "2.0"): ("tallywax>=2",), ("tallywax", "2.0"): ()}
        made = [
            MadeUp(name=name, version=version, code="x = 1\n", needs=needs.get((name, version), ()))
            for name in NAMES
            for version in ("1.0", "2.0")
        ]
        write_files(self.root / "wheels", [*made, MadeUp(name="skepio", version="1.0", code="x = 1\n")])
        self.begin("../wheels", *NAMES)
        self.rabbet("resolve", "--lowest", "--keep")
        self.good = self.project / "good.toml"
        shutil.copy(self.project / "pylock.toml", self.good)
        self.rabbet("resolve", "--raise-all")

    def found(self, *arguments: str, code: int = 0) -> dict:
        """What `--json` says; nothing is left of any run."""
        document = self.rabbet("culprit", "--json", *arguments, code=code).json()
        self.assertEqual([*(self.root / "store").glob("*/trials/*")], [])
        self.assertEqual([*(self.root / "store").glob("*/searches/*")], [])
        return document

    def guilty(self, *arguments: str) -> list:
        return [
            [sorted(member["name"] for member in group) for group in culprit["guilty"]]
            for culprit in self.found(*arguments)["culprits"]
        ]

    def test_between_locks(self) -> None:
        """One, two that only fail together, two alone, one with what it needs; and how to keep it out."""
        for conditions, expected in (
            (["combframe 2.0"], [[["combframe"]]]),
            (["combframe 2.0", "hivewire 2.0"], [[["combframe"], ["hivewire"]]]),
            (["smokerlog 2.0"], [[["smokerlog"]]]),
        ):
            self.assertEqual(self.guilty("--good", "good.toml", "--", *exits(*conditions)), expected)
        told = self.rabbet("culprit", "--good", "good.toml", "--jobs", "3", "--", *exits("smokerlog 2.0"))
        self.assertIn("smokerlog 2.0 in place of 1.0 made it fail; all other changes are innocent.", told.out)
        self.assertIn("with smokerlog 1.0 instead (tried: it passes)", told.out)
        self.assertIn("rabbet declare --limit 'smokerlog<2' && rabbet resolve && rabbet recreate", told.out)
        either = "import combframe as c, tallywax as t; assert '2.0' not in (c.__version__, t.__version__)"
        self.assertEqual(
            sorted(self.guilty("--good", "good.toml", "--", "python", "-c", either)),
            [[["combframe"]], [["tallywax"]]],
        )

    def test_by_the_declaration_itself(self) -> None:
        """Where what is declared now asks for the guilty release, what was declared before is offered."""
        self.rabbet("declare", "--exactly", "smokerlog<2", "--limit", "tallywax<2")
        self.rabbet("resolve", "--raise-all")
        for command in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "good"]):
            self.git(*command)
        self.rabbet("retract", "--limit", "tallywax")
        self.rabbet("declare", "--exactly", "smokerlog>=2")
        self.rabbet("resolve", "--raise-all")
        told = self.rabbet("culprit", "--good", "git:HEAD", "--", *exits("smokerlog 2.0")).out
        self.assertIn("rabbet declare --exactly 'smokerlog<2' && rabbet resolve && rabbet recreate", told)

    def test_states_of_all_forms(self) -> None:
        """A revision, an environment, an inventory, what is installed, what was added by hand, and Python."""
        git = ["git", "-c", "user.name=a", "-c", "user.email=a@b.example"]
        shutil.copy(self.project / "pylock.toml", self.root / "new.toml")
        shutil.copy(self.good, self.project / "pylock.toml")
        for command in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "good"]):
            subprocess.run([*git, *command], cwd=self.project, check=True, env=self.variables)
        self.rabbet("recreate")
        self.rabbet("census", "record", "--label", "orchard-laptop", "--to", "orchard.json")
        shutil.copy(self.root / "new.toml", self.project / "pylock.toml")
        command = exits("pollencsv 2.0")
        for state in ("git:HEAD", "installed", "orchard.json"):
            self.assertEqual(self.guilty("--good", state, "--", *command), [[["pollencsv"]]], state)
        inventory = json.loads((self.project / "orchard.json").read_text())
        other = json.loads((self.project / "orchard.json").read_text())
        for component in other["components"]:
            if component["name"] == "combframe":
                component.update(version="9.9", purl="pkg:pypi/combframe@9.9")
        (self.project / "gone.json").write_text(json.dumps(other))
        done = self.rabbet("culprit", "--good", "orchard.json", "--bad", "gone.json", "--", "true", code=5)
        self.assertIn("combframe 9.9: no source lists that release", done.err)
        inventory["components"].append({
            "type": "library", "name": "skepio", "version": "1.0", "purl": "pkg:pypi/skepio@1.0",
        })  # fmt: skip
        (self.project / "more.json").write_text(json.dumps(inventory))
        present = "import sys, importlib.util as u; sys.exit(u.find_spec('skepio') is not None)"
        document = self.found("--good", "orchard.json", "--bad", "more.json", "--", "python", "-c", present)
        self.assertEqual(document["changes"], [{"name": "skepio", "good": None, "bad": "1.0"}])

    def test_the_failure_among_others(self) -> None:
        """A text or an exit code tells it; a time limit is one; other failures are neither."""
        code = (
            "import sys, time, combframe as c, hivewire as h, broodcount as b\n"
            "if c.__version__ == '2.0': print('boom'); sys.exit(3)\n"
            "if b.__version__ == '2.0': sys.exit(4)\n"
        )
        for options in (["--fails-with", "boom"], ["--exit-code", "3"]):
            document = self.found("--good", "good.toml", *options, "--", "python", "-c", code)
            self.assertEqual(document["culprits"][0]["guilty"][0][0]["name"], "combframe")
        slow = "import time, combframe as c; time.sleep(6000 * (c.__version__ == '2.0'))"
        limit = ["--time-limit", "10", "--jobs", "4"]
        self.assertEqual(
            self.guilty("--good", "good.toml", *limit, "--", "python", "-c", slow), [[["combframe"]]]
        )

    def test_answers_without_a_culprit(self) -> None:
        """Both states alike, the wrong way round, a command that is not there, or flaky."""
        for arguments, answer in (
            (["--good", "good.toml", "--", "true"], "both-pass"),
            (["--good", "good.toml", "--", "false"], "both-fail"),
            (["--good", "good.toml", "--", *exits("combframe 1.0")], "reversed"),
            (["--good", "pylock.toml", "--", "false"], "no-difference"),
            (["--good", "good.toml", "--", "sh", "-c", "kill -9 $PPID; sleep 6000"], "untellable"),
        ):
            self.assertEqual(self.found(*arguments, code=1)["answer"], answer)
        done = self.rabbet("culprit", "--good", "good.toml", "--", "no-such-program", code=7)
        self.assertIn("'no-such-program'", done.err)
        for wrong in (
            ["--good", "good.toml"],
            ["--", "true"],
            ["--good", "good.toml", "--jobs", "0", "true"],
        ):
            self.rabbet("culprit", *wrong, code=2)
        count = "n=$(cat ../n 2>/dev/null || echo 0); echo $((n+1)) > ../n; exit $((n % 2))"
        (self.root / "n").write_text("0")
        flaky = self.rabbet(
            "culprit", "--good", "good.toml", "--repeat", "2", "--", "sh", "-c", count, code=1
        )
        self.assertIn("No verdict", flaky.out)
        self.assertIn("--repeat 10", flaky.out)

    def test_hostile_commands(self) -> None:
        """Whatever a command does to what surrounds it, an answer comes, and nothing of it runs on."""
        marker = f"6{os.getpid()}"  # seconds that no other process sleeps
        for words, answer in (
            (f"kill -STOP $PPID; sleep {marker}", "untellable"),
            (f"above=$PPID; env -i setsid sleep {marker} & kill -9 $above", "untellable"),
            (f"env -i setsid sleep {marker} & (yes & yes) & exit 3", "both-fail"),
            ('rm -rf "$TMPDIR"', "both-pass"),
            ('rm -rf "$(dirname "$TMPDIR")"', "both-pass"),
            ('rm "$TMPDIR/../output" && mkfifo "$TMPDIR/../output" && echo boom', "both-pass"),
            ('rm -rf "$TMPDIR" && ln -s / "$TMPDIR"', "both-pass"),
        ):
            with self.subTest(words):
                told = self.found("--good", "good.toml", "--", "sh", "-c", words, code=1)
                self.assertEqual(told["answer"], answer)
                self.assertEqual(_processes(marker), [])

    def test_evidence_is_kept(self) -> None:
        """Two environments, and a script that shows what they differ in."""
        place = self.root / "evidence"
        self.rabbet("culprit", "--good", "good.toml", "--keep", str(place), "--", *exits("tallywax 2.0"))
        shown = subprocess.run(
            ["sh", place / "show.sh"], capture_output=True, text=True, check=False, env=self.variables
        )
        self.assertIn("passing: exit code 0", shown.stdout)
        self.assertIn("failing: exit code 1", shown.stdout)
        versions = {
            name: sorted(one.name for one in (place / name).glob("lib/*/site-packages/*.dist-info"))
            for name in ("passing", "failing")
        }
        self.assertEqual(
            set(versions["passing"]) ^ set(versions["failing"]),
            {"tallywax-1.0.dist-info", "tallywax-2.0.dist-info"},
        )
        self.rabbet("culprit", "--good", "good.toml", "--keep", str(place), "--", "true", code=2)

    def test_killed_and_gone_on(self) -> None:
        """No process is left of a search that was killed, and the next one knows what it found."""
        marker = f"sleeps-{os.getpid()}"
        (self.root / marker).write_text("import time; time.sleep(6000)")
        code = "import os, subprocess\n"
        code += f"if os.path.exists('../slow'): subprocess.run(['python', '../{marker}'])\n"
        command = ["--good", "good.toml", "--", "python", "-c", code + exits("combframe 2.0")[2]]
        before = self.tree()
        running = subprocess.Popen(
            self.command("culprit", *command), cwd=self.project, env=self.variables, stderr=subprocess.PIPE
        )
        with running:
            assert running.stderr is not None
            for line in running.stderr:
                if b"suspects left" in line:
                    (self.root / "slow").touch()  # from now on the command does not end
                    break
            until = time.monotonic() + PATIENCE
            while not _processes(marker) and time.monotonic() < until:
                time.sleep(0.05)
            running.send_signal(signal.SIGKILL)
        until = time.monotonic() + PATIENCE
        while _processes(marker) and time.monotonic() < until:
            time.sleep(0.05)
        self.assertEqual(_processes(marker), [])
        (self.root / "slow").unlink()
        self.assertEqual(self.tree(), before)
        self.assertGreaterEqual(self.found(*command)["recalled"], 2)
        self.assertEqual(self.tree(), before)

    def test_a_command_that_meddles(self) -> None:
        """It changes its environment, and the store through it: no other run sees that, and it is told."""
        meddle = "import combframe, pathlib; pathlib.Path(combframe.__file__).chmod(0o644);"
        meddle += " pathlib.Path(combframe.__file__).write_text('raise SystemExit(9)'); "
        document = self.found("--good", "good.toml", "--", "python", "-c", meddle + exits("hivewire 2.0")[2])
        self.assertEqual(document["culprits"][0]["guilty"][0][0]["name"], "hivewire")
        self.assertIn("changes the environment", document["notes"][0])
        self.rabbet("recreate")
        self.rabbet("run", "python", "-c", "import combframe")


def _processes(marker: str) -> list[str]:
    """The processes that were started with a word."""
    found = []
    for place in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if marker.encode() in place.read_bytes():
                found.append(place.parent.name)
        except OSError:
            continue
    return [process for process in found if process != str(os.getpid())]
