"""What comes with a clone or out of a damaged store: nothing of it runs, reaches out or lies."""

import base64
import hashlib
import json
import os
import re
import shutil
import subprocess
import tomllib
from collections.abc import Callable
from pathlib import Path

from rabbet.demo.libraries import RELEASES
from rabbet.demo.stand_in import Manner, StandIn
from rabbet.store.environments import NOTES
from rabbet.store.layout import LAYOUT
from tests.support import PATIENCE
from tests.support.program import ProgramCase

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "trust.toml").read_text())
HERE = "touch {}/HERE"


class Trust(ProgramCase):
    """A project on the demo's libraries, resolved."""

    def setUp(self) -> None:
        super().setUp()
        self.manner = Manner()
        self.index = self.serve(StandIn(RELEASES, manner=self.manner))
        self.begin(self.index.address, "mitewatch")
        self.rabbet("resolve")
        self.mark = self.root / "HERE"

    def run_any(self, command: str) -> "subprocess.CompletedProcess[str]":
        """Run a command, however it ends."""
        return subprocess.run(
            self.command(*command.split()),
            cwd=self.project,
            env=self.variables,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=PATIENCE,
            check=False,
        )

    def program(self, path: Path) -> None:
        """A program that tells of being run."""
        path.parent.mkdir(parents=True, exist_ok=True)
        path.unlink(missing_ok=True)
        path.write_text(f"#!/bin/sh\n{HERE.format(self.root)}\n")
        path.chmod(0o755)

    def binary(self, path: Path) -> None:
        """One that is no script: the true `env`, called by names that look like interpreters."""
        path.unlink(missing_ok=True)
        path.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(self.tracer, path)

    @property
    def tracer(self) -> Path:
        """A real program that leaves the mark, whatever it is called with."""
        built = self.root / "tracer"
        if not built.exists():
            source = f'#include <fcntl.h>\nint main() {{ open("{self.mark}", O_CREAT, 0600); return 1; }}\n'
            done = subprocess.run(
                ["cc", "-x", "c", "-", "-o", built], input=source, text=True, check=False, capture_output=True
            )
            if done.returncode:
                self.skipTest("there is no compiler to make a program with")
        return built

    def stranger(self) -> Path:
        """An environment as it comes with a clone: whole, with notes that say everything is well."""
        self.rabbet("recreate", RABBET_STATE=str(self.root / "a teammate's"))
        return self.project / ".venv"


class NothingRuns(Trust):
    """Looking runs nothing that lies in a project or an environment."""

    def test_stranger(self) -> None:
        """An environment that came with the clone is read as data: not run, not changed, not removed."""
        home = self.stranger()
        for name in ("python", "python3", "mitewatch"):
            self.program(home / "bin" / name)
        self.binary(home / "bin" / "python3.13")
        before = self.tree()
        for command, code in TABLE["looking"]:
            with self.subTest(command):
                done = self.rabbet(*command.split(), code=code)
                if code == 7:
                    self.assertRegex(done.err, r"was not made here|made here, so it was not changed")
                self.assertEqual((self.mark.exists(), self.tree() == before), (False, True))
        self.assertEqual(self.rabbet("status", "--json").json()["next"], "rabbet drift")
        remedy = re.findall(r"try +(mv .*)", self.rabbet("recreate", code=7).err)[0]
        rabbet = f"{self.root}/rabbet"
        Path(rabbet).write_text(f'#!/bin/sh\nexec {" ".join(self.command())} "$@"\n')
        Path(rabbet).chmod(0o755)
        paths = {**self.variables, "PATH": f"{self.root}:{self.variables['PATH']}"}
        subprocess.run(["sh", "-c", remedy], cwd=self.project, env=paths, check=True, capture_output=True)
        self.rabbet("drift")

    def test_entered(self) -> None:
        """Inside, what a wheel put among the commands is no interpreter, no git and no other helper."""
        self.rabbet("recreate")
        bin_ = self.project / ".venv" / "bin"
        for name in ("python3.13t", "pypy3", "python3.99"):
            self.binary(bin_ / name)
        self.binary(bin_ / "git")
        self.binary(self.project / "bin" / "python3.12")
        paths = f"{bin_}:{self.project / 'bin'}:.:{self.variables['PATH']}"
        git = ["git", "-c", "user.name=b", "-c", "user.email=b@apiary.example"]
        for words in (["init", "-q"], ["add", "pylock.toml"], ["commit", "-qm", "x"]):
            subprocess.run([*git, *words], cwd=self.project, check=True, capture_output=True)
        for command in ("resolve", "drift", "envs", "recreate --plan", "compare HEAD", "begin --yes"):
            with self.subTest(command):
                code = 1 if command == "drift" else 0
                self.rabbet(*command.split(), code=code, PATH=paths, RABBET_ENVIRONMENT=str(bin_.parent))
                self.assertFalse(self.mark.exists())

    def test_languages(self) -> None:
        """A language that only the clone tells of names no program that is run, and takes none away."""
        own = ["runtimes", "--only", "python", "node", "--json"]
        before = [runtime["executable"] for runtime in self.rabbet(*own).json()["runtimes"]]
        self.binary(self.root / "home" / "bin" / "combine")
        self.program(self.root / "home" / "bin" / "hum")
        text = (self.project / "pyproject.toml").read_text()
        for name, programs in (
            ("waggle", ["combine"]),
            ("hum", ["hum"]),
            ("drone", ["node"]),
            ("queen", ["mkdir"]),
        ):
            table = f'programs = {programs}\nask = ["--version"]\ntold = ["{{version}}"]\nscript = true\n'
            text += f"[tool.rabbet.languages.{name}]\n{table}[tool.rabbet.runtimes.{name}]\nversion = '>=1'\n"
        (self.project / "pyproject.toml").write_text(text)
        for command in ("runtimes", "resolve", "recreate", "status", "drift", "run --under hum -- true"):
            self.assertNotEqual(self.run_any(command).returncode, 70)
            self.assertFalse(self.mark.exists(), command)
        self.assertEqual([runtime["executable"] for runtime in self.rabbet(*own).json()["runtimes"]], before)
        told = self.rabbet("runtimes", "--only", "hum", "--json").json()
        reasons = [refusal["reason"] for refusal in told["refused"] if refusal["language"] == "hum"]
        self.assertIn("[languages.hum]", reasons[0])
        self.assertFalse(Path("/version").exists())

    def test_prompts(self) -> None:
        """A folder's name is data in every shell that enters, whatever it holds."""
        self.rabbet("recreate")
        for name in TABLE["names"]:
            self.project = self.project.rename(self.root / name)
            script = "source ./.venv/bin/enter.{}; {}"
            for shell, file, show in (
                ("bash", "sh", 'printf "%s" "${PS1@P}"'),
                ("zsh", "sh", 'setopt promptsubst; print -P -- "$PS1"'),
                ("fish", "fish", "fish_prompt"),
            ):
                if shutil.which(shell) is None:
                    continue  # bash is everywhere; the others are tried where they are installed
                with self.subTest(name, shell=shell):
                    done = subprocess.run(
                        [shell, "-c", script.format(file, show)],
                        cwd=self.project,
                        env=self.variables,
                        capture_output=True,
                        text=True,
                        check=False,
                    )
                    self.assertIn("» ", done.stdout)
                    self.assertNotIn("\x1b]", done.stdout.partition("»")[0], "what follows is the user's own")
                    self.assertEqual([*self.root.glob("**/HERE")], [])


class NothingOutside(Trust):
    """Neither written nor deleted."""

    def test_prepared_folders(self) -> None:
        """Through no link that lies in a clone, and nothing that a forged manifest lists."""
        outside = self.root / "outside"
        outside.mkdir()
        (outside / "victim").write_text("mine\n")
        forged = [
            {"path": f"{place}/victim", "sha256": "0", "size": 1} for place in ("files", "simple", ".", "src")
        ]
        manifest = {"schema": "rabbet.carried/1", "project": "", "lock": "", "targets": [], "files": forged}
        (self.project / "src").mkdir()
        (self.project / "src" / "victim").write_text("mine\n")
        for row in TABLE["prepared"]:
            for name, target in row["links"].items():
                place = self.project / name
                place.parent.mkdir(exist_ok=True)
                if target == "FORGED":
                    place.write_text(json.dumps(manifest))
                else:
                    place.symlink_to(outside if target == "outside" else outside / "victim")
            for command in row["commands"]:
                done = self.run_any(command)
                with self.subTest(command, links=row["links"]):
                    self.assertNotIn(done.returncode, (70, -9), done.stderr)
                    self.assertEqual([path.name for path in outside.rglob("*")], ["victim"], done.stderr)
                    self.assertEqual((outside / "victim").read_text(), "mine\n")
                    self.assertTrue((self.project / "src" / "victim").exists())
            for name in row["links"]:
                place = self.project / name.partition("/")[0]
                place.unlink() if place.is_symlink() else shutil.rmtree(place, ignore_errors=True)

    def test_prepared_state(self) -> None:
        """The log of runs and the label: a link is not written through, a pipe keeps nobody."""
        state = self.root / "state"
        state.mkdir(parents=True, exist_ok=True)
        victim = self.root / "victim"
        victim.write_text("mine\n")
        label = state / NOTES / "label"
        self.rabbet("recreate")
        for make in (lambda path: path.symlink_to(victim), os.mkfifo):
            for path in (state / "runs.jsonl", label):
                path.unlink(missing_ok=True)
                make(path)
            self.rabbet("resolve", "--raise", "no-such", code=2)
            self.rabbet("census", "record")
            self.assertEqual(victim.read_text(), "mine\n")
        made_up_again = label.read_text()
        self.rabbet("envs")
        self.assertEqual(label.read_text(), made_up_again)

    def test_links(self) -> None:
        """Where a folder of the environment is a link, nothing behind it is touched, and it is made again."""
        outside = self.root / "outside"
        for place in ("lib", "bin", "lib/*", "lib/*/site-packages"):
            with self.subTest(place):
                self.rabbet("recreate")
                folder = next((self.project / ".venv").glob(place))
                shutil.copytree(folder, outside, symlinks=True)
                (outside / "mine.txt").write_text("mine")
                shutil.rmtree(folder)
                folder.symlink_to(outside)
                kept = sorted(outside.rglob("*"))
                self.rabbet("retract", "mitewatch")
                self.rabbet("declare", "tallywax")
                self.rabbet("resolve")
                self.rabbet("recreate")
                self.assertEqual(sorted(outside.rglob("*")), kept)
                self.rabbet("drift")
                shutil.rmtree(outside)
                self.rabbet("retract", "tallywax")
                self.rabbet("declare", "mitewatch")
                self.rabbet("resolve")

    def test_lying_record(self) -> None:
        """A library that claims what is not its own takes none of it along."""
        self.rabbet("recreate")
        (self.root / "mine.txt").write_text("mine")
        info = self.site / "queenmark-9.dist-info"
        info.mkdir()
        (info / "METADATA").write_text("Metadata-Version: 2.1\nName: queenmark\nVersion: 9\n")
        claimed = [*TABLE["claimed"], str(self.root / "mine.txt"), "queenmark-9.dist-info/METADATA"]
        (info / "RECORD").write_text("".join(f"{place},,\n" for place in claimed))
        before = self.tree()
        self.rabbet("recreate")
        after = self.tree()
        gone = {Path(path).name for path in before.keys() - after.keys()}
        self.assertEqual(gone, {"METADATA", "RECORD"})
        self.assertTrue((self.root / "mine.txt").exists())
        self.rabbet("drift")

    def test_forged_notes(self) -> None:
        """`discard` removes what was made here, and no folder that only says so."""
        self.rabbet("recreate")
        for name in ("rabbet.json", "rabbet.id", "pyvenv.cfg"):
            shutil.copy(self.project / ".venv" / name, self.project / name)
        for folder in (".", "../home"):
            done = self.rabbet("envs", "discard", folder, code=0 if folder == "." else 7)
            self.assertEqual(folder == ".", "Discarded" in done.out)
        self.assertTrue((self.project / "pylock.toml").exists())
        self.rabbet("envs", "discard", ".", code=7)

    def test_linked_files(self) -> None:
        """A lock or a declaration that is a link is not written through."""
        for name, command in (("pylock.toml", "resolve --raise-all"), ("pyproject.toml", "declare skepio")):
            with self.subTest(name):
                path, outside = self.project / name, self.root / f"outside-{name}"
                path.rename(outside)
                outside.write_text(outside.read_text().replace("1.", "1."))
                path.symlink_to(outside)
                text = outside.read_text()
                if name == "pylock.toml":
                    self.rabbet("declare", "tallywax")
                error = self.rabbet(*command.split(), code=7).err
                self.assertIn("nothing is written through links", error)
                self.assertEqual(outside.read_text(), text)
                remedy = re.findall(r"try +(cp .*)", error)[0]
                subprocess.run(["sh", "-c", remedy], cwd=self.project, check=True)
                self.rabbet(*command.split())
                self.assertEqual(outside.read_text(), text)


class DamageIsNoticed(Trust):
    """In the store, and in environments that share its files."""

    def test_every_bit(self) -> None:
        """Whatever is changed of what is kept, the lock and the environment are as they were without it."""
        self.rabbet("recreate")
        lock, installed = (self.project / "pylock.toml").read_text(), self.installed()
        store = self.root / "store" / LAYOUT
        parts = ("listings", "metadata", "runtimes", "unchanged", "manifests", "states")
        for way in TABLE["damages"]:
            with self.subTest(way):
                for path in (path for part in parts for path in (store / part).iterdir()):
                    content = path.read_bytes()
                    other = content[:-1] + bytes([content[-1] ^ 1])
                    path.write_bytes({"cut": content[:-1], "empty": b"", "bit": other}[way])
                self.rabbet("resolve", "--raise-all")
                self.rabbet("recreate", "--fresh")
                self.assertEqual((self.project / "pylock.toml").read_text(), lock)
                self.assertEqual(self.installed(), installed)
        told = next(iter((store / "listings").iterdir()))
        told.write_bytes(b"damaged")
        self.assertIn("damaged, so forgotten", self.rabbet("--trace", "resolve", "--raise-all").err)

    def test_shared_files(self) -> None:
        """An edit in one environment, its time put back, reaches no fresh one; its sharers are told."""
        self.rabbet("recreate")
        other = self.root / "other"
        other.mkdir()
        for name in ("pyproject.toml", "pylock.toml"):
            shutil.copy(self.project / name, other / name)
        self.rabbet("recreate", folder=other)
        for place in ("mitewatch.py", "__pycache__/mitewatch.*.pyc"):
            with self.subTest(place):
                edited = next(self.site.glob(place))
                original, state = edited.read_bytes(), edited.stat()
                edited.chmod(0o644)
                edited.write_bytes(original[:-1] + b"#")
                edited.chmod(0o444)
                os.utime(edited, ns=(state.st_atime_ns, state.st_mtime_ns))
                self.assertIn(f"shared with {self.project}", self.rabbet("drift", folder=other, code=1).out)
                self.assertEqual(self.rabbet("store", "check", code=1).out.count("damaged"), 2)
                self.rabbet("recreate", "--fresh", folder=other)
                made = next((other / ".venv").glob(f"lib/*/site-packages/{place}"))
                self.assertNotEqual(made.read_bytes()[-1:], b"#")
                self.rabbet("recreate")
                self.assertNotEqual(edited.read_bytes()[-1:], b"#")
                self.rabbet("drift", folder=other)  # links came and went: from now on their number is known

    def test_emptied_cache(self) -> None:
        """Who empties the folder for caches, or the store, keeps his environments and the label."""
        self.rabbet("recreate")
        self.rabbet("census", "record", "--to", "before.json")
        shutil.rmtree(self.root / "store")
        self.rabbet("run", "--as-is", "mitewatch")
        self.rabbet("store", "check")
        self.rabbet("census", "record", "--to", "after.json")
        before, after = ((self.project / name).read_text() for name in ("before.json", "after.json"))
        self.assertEqual(*(re.findall(r"[a-z]+-[a-z]+-\d{3}", text) for text in (before, after)))
        shutil.rmtree(self.project / ".venv")
        del self.variables["RABBET_STORE"]
        self.variables["XDG_CACHE_HOME"] = str(self.root / "cache")
        self.rabbet("recreate")
        shutil.rmtree(self.root / "cache")
        self.rabbet("drift")
        self.rabbet("recreate", "--fresh")
        self.rabbet("run", "mitewatch")
        shutil.rmtree(self.project / ".venv")
        before = self.tree()
        error = self.rabbet("recreate", code=7, RABBET_STATE="/dev/null").err
        self.assertIn("/dev/null/layout-2", error)
        self.assertEqual(self.tree(), before)

    def test_unshared_files(self) -> None:
        """Whoever wishes so gets files of his own in each environment."""
        self.rabbet("recreate", RABBET_SHARE_FILES="0")
        files = [path for path in self.site.rglob("*") if path.is_file()]
        self.assertEqual({path.stat().st_nlink for path in files}, {1})
        settings = self.root / "home" / "config" / "rabbet" / "settings.toml"
        settings.parent.mkdir(parents=True)
        settings.write_text("share-files = false\n")
        shutil.rmtree(self.project / ".venv")
        self.rabbet("recreate")
        self.assertEqual({path.stat().st_nlink for path in self.site.rglob("*.py")}, {1})

    def test_altered(self) -> None:
        """Whatever is altered in an environment is found, and what is found is mended."""
        self.rabbet("recreate")
        home = self.project / ".venv"
        site = str(self.site.relative_to(home))

        def dropped(place: str) -> None:
            (home / place).parent.mkdir(exist_ok=True)
            (home / place).write_text("import os\n")

        def replaced(place: str) -> None:
            path = next(home.glob(place))
            path.unlink()
            path.mkdir()

        acts: dict[str, Callable[[str], object]] = {
            "drop": dropped,
            "replace by a folder": replaced,
            "link": lambda place: (next(home.glob(place)).unlink(), (home / place).symlink_to("/etc/passwd")),
            "link again": lambda place: (home / place).symlink_to("/etc"),
            "append": lambda place: append(next(home.glob(place))),
            "chmod 0": lambda place: next(home.glob(place)).chmod(0),
            "chmod 666": lambda place: next(home.glob(place)).chmod(0o666),
            "remove": lambda place: next(home.glob(place)).unlink(),
        }
        for act, place in TABLE["altered"]:
            with self.subTest(act, place=place):
                acts[act](place.replace("SITE", site))
                self.assertNotEqual(self.rabbet("drift", code=1).out, "")
                self.rabbet("recreate")
                self.rabbet("drift")
        self.rabbet("drift", "--deep")

    def test_all_notes_changed(self) -> None:
        """A module, its record and Rabbet's notes changed together are found by the lock's hashes alone."""
        self.rabbet("recreate")
        install_state, record = (
            self.project / ".venv" / "rabbet.json",
            next(self.site.glob("mitewatch*/RECORD")),
        )
        module = self.site / "mitewatch.py"
        old_record = digest(record.read_bytes())
        row = f"mitewatch.py,sha256={{}},{len(module.read_bytes())}"
        before = row.format(base64_digest(module.read_bytes()))
        module.chmod(0o644)
        module.write_bytes(module.read_bytes()[:-1] + b"#")
        module.chmod(0o444)
        self.assertIn(before, record.read_text())
        record.write_text(record.read_text().replace(before, row.format(base64_digest(module.read_bytes()))))
        install_state.write_text(install_state.read_text().replace(old_record, digest(record.read_bytes())))
        self.rabbet("drift")
        self.assertIn("mitewatch", self.rabbet("drift", "--deep", code=1).out)
        self.rabbet("recreate", "--verify")
        self.rabbet("drift", "--deep")


def append(path: Path) -> None:
    """Change a file that is read-only."""
    path.chmod(0o644)
    with path.open("ab") as file:
        file.write(b"\n# more\n")


def digest(content: bytes) -> str:
    """As in a lock."""
    return hashlib.sha256(content).hexdigest()


def base64_digest(content: bytes) -> str:
    """As in a `RECORD`."""
    return base64.urlsafe_b64encode(bytes.fromhex(digest(content))).rstrip(b"=").decode()
