"""Environments that are put together again, by two processes where there are many files."""

import operator
import os
import shutil
import signal
import tempfile
import unittest
from collections.abc import Callable
from functools import partial
from pathlib import Path
from unittest import mock

from rabbet.environment.alongside import alongside
from rabbet.environment.pattern import (
    Pattern,
    StoreChanged,
    follow_pattern,
    pattern_of,
    read_pattern,
    write_pattern,
)

FOLDERS, FILES = 3, 800  # enough for two processes


def refuse() -> int:
    """In place of `os.fork`."""
    raise BlockingIOError


class Followed(unittest.TestCase):
    """A made-up store of a few folders with many files."""

    def setUp(self) -> None:
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = []
        for number in range(FOLDERS):
            folder = self.root / "store" / str(number)
            folder.mkdir(parents=True)
            names = [f"cell{one}.py" for one in range(FILES)]
            for name in names:
                (folder / name).write_text(f"{number} {name}")
            states = [(folder / name).stat() for name in names]
            texts = "/".join(f"{one.st_size} {one.st_mtime_ns}" for one in states)
            rows.append((f"lib/{number}", str(folder), "/".join(names), texts))
        folders = ["lib", *(f"lib/{number}" for number in range(FOLDERS))]
        written = [("lib/stamp", "täg", 0o755, 1_000_000_000)]
        self.pattern = Pattern([("combframe", "1.0")], "Python", folders, [("lib64", "lib")], rows, written)

    def follow(self) -> Path:
        """Follow the pattern as it is kept, into a new folder."""
        home = Path(tempfile.mkdtemp(dir=self.root))
        pattern = read_pattern(write_pattern(self.pattern))
        assert pattern is not None
        follow_pattern(pattern, str(home))
        return home

    def test_whole(self) -> None:
        """The same with one process, with two, and where the second one can't be had."""
        for cores, fork in ((1, os.fork), (2, os.fork), (2, refuse)):
            with (
                self.subTest(cores=cores, fork=fork),
                mock.patch("os.cpu_count", lambda cores=cores: cores),
                mock.patch("os.fork", fork),
            ):
                home = self.follow()
                for number in range(FOLDERS):
                    made, there = home / "lib64" / str(number), self.root / "store" / str(number)
                    self.assertEqual(len(list(made.iterdir())), FILES)
                    for name in ("cell0.py", f"cell{FILES - 1}.py"):
                        self.assertEqual((made / name).read_bytes(), (there / name).read_bytes())
                stamp = home / "lib" / "stamp"
                self.assertEqual((stamp.read_bytes(), stamp.stat().st_mode & 0o777), (b"t\xe4g", 0o755))
                self.assertEqual(pattern_of(home, [], [], "").folders[0], "lib")

    def test_changed(self) -> None:
        """Whichever process has to do with it, a store that is not what it was is noticed."""
        changes: list[Callable[[Path], object]] = [
            lambda path: path.write_text("another size"),
            lambda path: os.utime(path, ns=(5, 5)),
            Path.unlink,
            lambda path: shutil.rmtree(path.parent),
            lambda path: (shutil.rmtree(path.parent), path.parent.write_text("no folder")),
        ]
        for change, number in zip(changes, (0, FOLDERS - 1, 1, 0, 1), strict=True):
            with self.subTest(number=number), self.assertRaises(StoreChanged):
                change(self.root / "store" / str(number) / f"cell{FILES - 1}.py")
                self.follow()
            self.setUp()


class Alongside(unittest.TestCase):
    """Work for a second process."""

    def test_done_once_or_again(self) -> None:
        """What the second process did not finish, for whatever reason, the first one does."""
        first = os.getpid()
        done = []

        def work() -> None:
            if os.getpid() != first:
                os.kill(os.getpid(), signal.SIGKILL)
            done.append("here")

        with alongside(work):
            done.append("meanwhile")
        self.assertEqual(done, ["meanwhile", "here"])

    def test_fails(self) -> None:
        """What fails in both is told as it is; what fails meanwhile comes first."""
        for error, meanwhile in ((ZeroDivisionError, False), (KeyError, True)):
            with self.subTest(error), self.assertRaises(error), alongside(partial(operator.truediv, 1, 0)):
                if meanwhile:
                    raise KeyError
