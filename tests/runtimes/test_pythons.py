"""Finding interpreters and choosing among them."""

import os
import shutil
import sys
import tempfile
import unittest
from pathlib import Path

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.model.lock import LockedRuntime
from rabbet.core.model.runtime import PythonRuntime, Refusal
from rabbet.errors import NoRuntime, WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.runtimes.choose import choose
from rabbet.runtimes.probe import probe_all, standard_modules
from rabbet.runtimes.search import find_executables, interpreter_behind
from rabbet.store.blob_cache import BlobCache
from rabbet.work.ask import NoAnswer
from rabbet.workspace.looking.programs_seen import seen_programs
from rabbet.workspace.machine import Machine
from rabbet.workspace.runtimes.languages import main_programs
from rabbet.workspace.runtimes.pythons import targets_for
from tests.support.catalogue import MARKERS


def runtime(text: str) -> PythonRuntime:
    """A made-up interpreter: its version, `t` behind it for a free-threaded build, `pypy` before it."""
    version = text.removeprefix("pypy").removesuffix("t")
    return PythonRuntime(
        executable=f"/opt/{text}/bin/python",
        site_packages="lib",
        version=Version(version),
        language="python",
        distributor="pypy" if text.startswith("pypy") else "cpython",
        markers=MARKERS,
        libc=("glibc", "2.36"),
        abi_flags="t" if text.endswith("t") else "",
        word_bits=64,
    )


# found, allowed, locked, chosen (None: none fits)
CASES = [
    ("3.11.2 3.12.1 3.10.9", ">=3.10", None, "3.12.1"),
    ("3.11.2 3.12.1 3.10.9", "<3.12", None, "3.11.2"),
    ("3.11.2 3.12.1", ">=3.11", "3.11.2", "3.11.2"),
    ("3.11.9 3.11.2 3.12.1", ">=3.11", "3.11.2", "3.11.2"),
    ("3.11.9 3.12.1", ">=3.11", "3.11.2", "3.11.9"),
    ("3.11.2 3.12.1", ">=3.12", "3.11.2", "3.12.1"),
    ("3.14.0rc1 3.12.1", ">=3.11", None, "3.12.1"),
    ("3.14.0t 3.12.1", ">=3.11", None, "3.12.1"),
    ("pypy3.13.0 3.12.1", ">=3.11", None, "3.12.1"),
    ("pypy3.11.2", ">=3.11", None, "pypy3.11.2"),
    ("3.10.9 3.11.2", ">=3.12", None, None),
    ("", ">=3.12", None, None),
]


class Choosing(unittest.TestCase):
    """The lock's runtime before others, ordinary builds before odd ones, then the newest."""

    def test_table(self) -> None:
        for found, allowed, locked, expected in CASES:
            with self.subTest(found=found, allowed=allowed, locked=locked):
                before = None
                if locked:
                    before = LockedRuntime(language="python", version=Version(locked), distributor="cpython")
                there = [
                    Refusal(executable="/bin/x", reason="it does not start"),
                    *map(runtime, found.split()),
                ]
                if expected is None:
                    with self.assertRaises(NoRuntime) as raised:
                        choose(there, SpecifierSet(allowed), locked=before)
                    self.assertEqual(len(raised.exception.because), len(there))
                    self.assertIn("/bin/x: it does not start", raised.exception.because)
                else:
                    chosen = choose(there, SpecifierSet(allowed), locked=before)
                    self.assertEqual(chosen, runtime(expected))


class Served(unittest.TestCase):
    """What a lock has to serve."""

    def test_platform_without_a_name(self) -> None:
        """Versions of Python alone are enough where this machine's platform can be named."""
        text = '[project]\nname = "x"\n[tool.rabbet]\npythons = ["3.12", "3.13"]\n'
        declaration = read_declaration(text, folder_name="x")
        for machine, count in (("x86_64", 2), ("riscv64", 0), ("i686", 0)):
            own = replace(runtime("3.12.1"), markers={**MARKERS, "platform_machine": machine})
            with self.subTest(machine):
                if count:
                    self.assertEqual(len(targets_for(declaration, own)), count)
                else:
                    with self.assertRaises(WrongUsage):
                        targets_for(declaration, own)


class Serving(unittest.TestCase):
    """The versions of Python that a lock is for."""

    def test_the_same_whoever_resolves(self) -> None:
        """The targets follow from the declared range, whichever Python of it resolves."""
        text = '[project]\nname = "hivescale"\nrequires-python = "{}"\n{}'
        for constraint, more, expected in (
            (">=3.11", "", "3.11 3.12 3.13 3.14"),
            (">=3.10,<3.13", "", "3.10 3.11 3.12"),
            (">=3.10,!=3.11.*", "", "3.10 3.12 3.13 3.14"),
            (">=3.10", '[tool.rabbet]\npythons = ["3.12", "3.15"]\n', "3.12 3.15"),
        ):
            declaration = read_declaration(text.format(constraint, more), folder_name="hive")
            found = []
            for minor in expected.split()[:3]:
                markers = {**MARKERS, "python_version": minor, "python_full_version": f"{minor}.4"}
                own = replace(runtime(f"{minor}.4"), markers=markers)
                targets = targets_for(declaration, own)
                found.append({target.environment: dict(target.tags) for target in targets})
                if not more:
                    self.assertEqual(targets[0].minor, minor, "this machine's comes first")
            with self.subTest(constraint, more=more):
                self.assertEqual(
                    sorted(marker.split("'")[5] for marker in found[0]), sorted(expected.split())
                )
                self.assertTrue(all(each == found[0] for each in found))

    def test_alone(self) -> None:
        """Without a range, and where only odd builds are here, it is this one's alone."""
        plain = read_declaration('[project]\nname = "hivescale"\n', folder_name="hive")
        ranged = read_declaration(
            '[project]\nname = "hivescale"\nrequires-python = ">=3.9"\n', folder_name="hive"
        )
        for declaration, own in ((plain, "3.12.1"), (ranged, "3.12.1t"), (ranged, "pypy3.12.1")):
            with self.subTest(own):
                self.assertEqual(len(targets_for(declaration, runtime(own))), 1)


class Finding(unittest.TestCase):
    """Each real interpreter once, in the order of `PATH`; what only looks like one is told apart."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name).resolve()

    def program(self, path: str, content: bytes = b"\x7fELF") -> Path:
        target = self.root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(content)
        target.chmod(0o755)
        return target

    def test_search(self) -> None:
        second = self.program("b/python3.12")
        first = self.program("a/python3")
        (self.root / "a" / "python").symlink_to("python3")
        self.program("a/python3.11", b"#!/bin/sh\nexec python3\n")
        self.program("a/python3-config")
        own = self.program("home/.tools/versions/3.9.1/bin/python3.9")
        (self.root / "a" / "python3.10").mkdir()
        (self.root / "a" / "python3.8").symlink_to("python3.7")
        (self.root / "a" / "python3.7").symlink_to("python3.8")
        path = os.pathsep.join([str(self.root / "a"), "", str(self.root / "gone"), str(self.root / "b")])
        found = find_executables({"PATH": path}, self.root / "home")
        self.assertEqual([runtime for runtime in found if self.root in runtime.parents], [first, second, own])

    def test_seen_before(self) -> None:
        """What is remembered of a search is what a new one finds, whatever was done meanwhile."""
        (home := self.root / "home").mkdir()
        environ = {"PATH": str(self.root / "a"), "RABBET_STORE": str(self.root / "store")}
        link = home / ".tools" / "current"
        for deed in (
            lambda: self.program("a/python3.12"),
            lambda: self.program("home/.tools/versions/3.9.1/bin/python3.9"),
            lambda: self.program("home/.tools/versions/3.9.2/bin/python3.9"),
            lambda: self.program("home/.tools/versions/3.9.2/bin/node"),
            lambda: self.program("home/bin/waggle"),
            lambda: link.symlink_to("versions/3.9.1"),
            lambda: (link.unlink(), link.symlink_to("versions/3.9.2")),
            (home / ".tools" / "pyproject.toml").touch,
            (home / ".tools" / "pyproject.toml").unlink,
            lambda: (home / ".tools" / "versions" / "3.9.2" / "pyvenv.cfg").symlink_to("nowhere"),
            lambda: (home / ".tools").rename(home / ".old"),
            lambda: shutil.rmtree(home / ".old"),
            (self.root / "a" / "python3.12").unlink,
        ):
            deed()
            for more in ((), ("waggle",)):
                known = [
                    seen_programs(Machine(home, environ, home), others=True, more=more) for _ in range(2)
                ]
                new = Machine(home, environ, home)
                found = [*new.pythons, *main_programs(new, more)]
                self.assertEqual(known, [[*map(str, found)]] * 2)
        self.assertTrue(any("waggle" in path for path in known[0]))

    def test_behind_an_environment(self) -> None:
        """An environment's interpreter counts, unless a project or an environment holds it."""
        home, environment = self.root / "home", self.root / "project" / ".venv"
        (environment / "bin").mkdir(parents=True)
        link = environment / "bin" / "python"
        (self.root / "project" / "pyproject.toml").touch()
        real = self.program("odd/place/python3.12")
        for to, expected in (
            (real, real),
            (self.program("project/python3.12"), None),
            (self.program("odd/place/python3", b"#!/bin/sh\n"), None),
            (self.program("odd/place/other"), None),
            (self.root / "gone" / "python3.12", None),
            (self.program("project/.venv/bin/python3.12"), None),
            (link, None),
        ):
            with self.subTest(to):
                link.unlink(missing_ok=True)
                link.symlink_to(to)
                self.assertEqual(interpreter_behind(environment, home), expected)

    def test_standard_modules(self) -> None:
        """Each interpreter tells its own, which are remembered until it changes."""
        memory = BlobCache(self.root / "memory")
        own = standard_modules(Path(sys.executable).resolve(), memory, os.environ)
        self.assertEqual(own, sys.stdlib_module_names)
        older = self.program("older", b"#!/bin/sh\necho os sys\n")
        self.assertEqual(standard_modules(older, memory, os.environ), {"os", "sys"})
        older.write_bytes(b"#!/bin/sh\necho os sys more\n")
        self.assertEqual(standard_modules(older, memory, os.environ), {"os", "sys", "more"})
        older.write_bytes(b"#!/bin/sh\nexit 3\n")
        with self.assertRaisesRegex(NoAnswer, "it does not work"):
            standard_modules(older, memory, os.environ)

    def test_refusals(self) -> None:
        """What does not start, fails, or answers nonsense is refused with the reason."""
        broken = self.program("broken", b"\x7fELF")
        failing = self.program("failing", b"#!/bin/sh\necho it hurts >&2; exit 3\n")
        silly = self.program("silly", b"#!/bin/sh\necho '{}'\n")
        found = probe_all([broken, failing, silly], BlobCache(self.root / "memory"), os.environ)
        reasons = [runtime.reason for runtime in found if isinstance(runtime, Refusal)]
        self.assertEqual(len(reasons), 3)
        for reason, words in zip(reasons, ("does not start", "it hurts", "makes no sense"), strict=True):
            self.assertIn(words, reason)
