"""Environments that are put together again, by two processes where there are many files."""

import operator
import os
import shutil
import signal
import tempfile
import unittest
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from rabbet.python.environment.place.guarded import GuardedEnvironment
from rabbet.python.environment.place.layout import Layout
from rabbet.python.environment.place.linking import Linking
from rabbet.python.environment.put.manifest import (
    EnvironmentManifest,
    StoreChanged,
    Tree,
    build_from_manifest,
    manifest_of,
    read_manifest,
    write_manifest,
)
from rabbet.python.store.unpack import stored_files
from rabbet.store.blob_cache import BlobCache
from rabbet.store.trees import write_tree
from rabbet.work.forked import alongside, fork_if_useful, in_processes

FOLDERS, FILES = 3, 800  # enough for two processes


class Followed(unittest.TestCase):
    """A made-up store of a few folders with many files."""

    def setUp(self) -> None:
        self.fresh()

    def fresh(self) -> None:
        """A store that nobody has touched, and the manifest of an environment made of it."""
        self.root = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.states = BlobCache(self.root / "states")
        trees = []
        for number in range(FOLDERS):
            entry = self.root / "store" / str(number)
            folder = entry / "tree"
            folder.mkdir(parents=True)
            names = [f"cell{number}.py" for number in range(FILES)]
            for name in names:
                (folder / name).write_text(f"{number} {name}")
            write_tree(str(entry), str(number), list(stored_files(folder)))
            trees.append(Tree(str(number), str(entry), [(f"lib/{number}", str(folder), names)]))
        folders = ["lib", *(f"lib/{number}" for number in range(FOLDERS))]
        written = [("lib/stamp", "täg", True)]
        self.manifest = EnvironmentManifest(
            [("combframe", "1.0")], "Python", folders, [("lib64", "lib")], trees, written
        )

    def follow(self, fork: Callable[[], int | None] = os.fork) -> Path:
        """Follow the manifest as it is kept, into a new folder."""
        home = Path(tempfile.mkdtemp(dir=self.root))
        manifest = read_manifest(write_manifest(self.manifest))
        assert manifest is not None
        layout = Layout(root=home, site_packages="lib")
        build_from_manifest(manifest, lambda: GuardedEnvironment(layout, Linking()), self.states, fork)
        return home

    def test_whole(self) -> None:
        """The same with one process, with two, and where the second one can't be had."""
        for fork in (os.fork, fork_if_useful, lambda: None):
            with self.subTest(fork=fork):
                home = self.follow(fork)
                for number in range(FOLDERS):
                    made, there = home / "lib64" / str(number), self.root / "store" / str(number) / "tree"
                    self.assertEqual(len(list(made.iterdir())), FILES)
                    for name in ("cell0.py", f"cell{FILES - 1}.py"):
                        self.assertEqual((made / name).read_bytes(), (there / name).read_bytes())
                stamp = home / "lib" / "stamp"
                self.assertEqual((stamp.read_bytes(), stamp.stat().st_mode & 0o777), (b"t\xe4g", 0o755))
                self.assertEqual(manifest_of(home, [], [], [], "").folders[0], "lib")

    def test_changed(self) -> None:
        """Whichever process has to do with it, a store that is not what it was is noticed."""

        def edit(path: Path) -> None:
            state = path.stat()
            path.chmod(0o644)
            path.write_text(path.read_text().replace("cell", "bell"))
            path.chmod(0o444)
            os.utime(path, ns=(state.st_atime_ns, state.st_mtime_ns))

        changes: list[Callable[[Path], object]] = [
            edit,
            lambda path: path.chmod(0o644),
            Path.unlink,
            lambda path: shutil.rmtree(path.parent),
            lambda path: (shutil.rmtree(path.parent), path.parent.write_text("no folder")),
        ]
        for change, number in zip(changes, (0, FOLDERS - 1, 1, 0, 1), strict=True):
            with self.subTest(number=number), self.assertRaises(StoreChanged):
                self.follow()
                change(self.root / "store" / str(number) / "tree" / f"cell{FILES - 1}.py")
                self.follow()
            self.fresh()

    def test_linked_elsewhere(self) -> None:
        """A link more or less changes no file: it is read once more, and is still right."""
        shutil.rmtree(self.follow())
        self.follow()


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

    def test_in_parts(self) -> None:
        """The results of all parts, also where the other processes fail or are killed."""
        here = os.getpid()
        parts = (["a", "b\udcff"], ["c" * 100_000, "d"], [])

        def work(places: Sequence[str], done: Callable[[Sequence[str]], None]) -> list[str]:
            if os.getpid() != here and fate is not None:
                fate()
            done(places)
            return list(places)

        for fork in (os.fork, fork_if_useful, lambda: None):
            for fate in (None, lambda: operator.truediv(1, 0), lambda: os.kill(os.getpid(), signal.SIGKILL)):
                with self.subTest(fork=fork, fate=fate):
                    told: list[str] = []
                    found = in_processes(work, parts, told.extend, fork)
                    self.assertEqual((found, told), ([*parts[0], *parts[1]],) * 2)
        with self.assertRaises(ZeroDivisionError):
            in_processes(lambda places, _: [str(1 / (len(places[0]) - 1))], parts, told.extend, os.fork)
