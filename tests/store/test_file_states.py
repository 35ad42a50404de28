"""States of trees: what is done to a file, and whether that is seen, against a record of every deed."""

import os
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

from rabbet.disk.file_states import packed_state, state_of, unpacked_state
from tests.support import chance


def forge(file: Path) -> None:
    """Change a file's content in place, and set its time back."""
    state = file.stat()
    file.write_bytes(b"y" * state.st_size)
    os.utime(file, ns=(state.st_atime_ns, state.st_mtime_ns))


def edit(file: Path) -> None:
    """Add something."""
    file.write_bytes(file.read_bytes() + b"x")


def replace(file: Path) -> None:
    """Put another file with the same content into its place."""
    new = file.with_name("new")
    new.write_bytes(file.read_bytes())
    new.rename(file)


def turn(file: Path) -> None:
    """Change its permissions."""
    file.chmod(file.stat().st_mode ^ 0o100)


DEEDS: dict[str, Callable[[Path], None]] = {
    "edit": edit,
    "replace": replace,
    "turn": turn,
    "remove": Path.unlink,
    "add": lambda file: file.with_name(f"{file.name}-more").touch(),
    "make": lambda file: (file.parent / "folder").mkdir(),
}


class States(unittest.TestCase):
    """Of a tree with files of its own, and files that others link."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.root, self.others = Path(holder.name) / "tree", Path(holder.name) / "others"
        self.others.mkdir()
        self.files = []
        for number in range(6):
            file = self.root / f"{number % 3}" / f"{number}.py"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(b"x" * 9)
            if number % 2:
                os.link(file, self.others / f"{number}.py")
            self.files.append(file)

    def test_each_deed(self) -> None:
        """Every edit is seen, whatever time it bears; links that come and go are no edit."""
        for number, file in enumerate(self.files):
            with self.subTest(number):
                before = state_of(str(self.root))
                self.assertEqual(state_of(str(self.root)), before)
                shared = self.others / f"{number}.py"
                if shared.exists():
                    folder = f"/{file.parent.name}"
                    os.link(file, self.others / "again")
                    linked = state_of(str(self.root))
                    self.assertEqual(linked.doubtful(before), [])
                    (self.others / "again").unlink()
                    self.assertEqual(state_of(str(self.root)).doubtful(linked), [])
                    self.assertEqual(state_of(str(self.root)).doubtful(before), [folder], "as many links")
                    forge(file)
                    self.assertEqual(state_of(str(self.root)).doubtful(before), [folder])
                else:
                    forge(file)
                    self.assertIsNone(state_of(str(self.root)).doubtful(before))

    def test_first_and_last_link(self) -> None:
        """In the store, the first link to a file and the loss of the last one are links like all others."""
        file = self.files[0]
        alone = state_of(str(self.root), shared_all=True)
        os.link(file, self.others / "again")
        linked = state_of(str(self.root), shared_all=True)
        self.assertEqual(linked.doubtful(alone), [])
        (self.others / "again").unlink()
        alone = state_of(str(self.root), shared_all=True)
        self.assertEqual(alone.doubtful(linked), [])
        forge(file)
        self.assertEqual(state_of(str(self.root), shared_all=True).doubtful(alone), [f"/{file.parent.name}"])

    def test_slow_disk(self) -> None:
        """Folders that are looked at side by side give the same state as one after the other."""
        for number in range(400):
            file = self.root / f"{number % 7}" / f"{number % 3}" / f"{number}.py"
            file.parent.mkdir(parents=True, exist_ok=True)
            file.touch()
        one_by_one = state_of(str(self.root), slow=60)
        self.assertEqual(len(one_by_one.folders), 1 + 7 * 4)
        self.assertEqual(state_of(str(self.root), slow=0).digest, one_by_one.digest)
        self.files[0].chmod(0o600)
        self.assertNotEqual(state_of(str(self.root), slow=0).digest, one_by_one.digest)

    def test_other_deeds(self) -> None:
        """None of these is taken for a link, in whatever order they come."""
        dice = chance.dice(9)
        for name in dice.sample(sorted(DEEDS), len(DEEDS)):
            before, file = state_of(str(self.root)), dice.choice(self.files)
            if not file.exists():
                continue
            with self.subTest(name, file=file.name):
                DEEDS[name](file)
                os.link(self.files[1], self.others / name) if self.files[1].exists() else None
                self.assertIsNone(state_of(str(self.root)).doubtful(before))

    def test_packed(self) -> None:
        """A state is read back as it was; what is damaged is none."""
        state = state_of(str(self.root))
        content = packed_state(state)
        self.assertEqual(unpacked_state(content), state)
        self.assertEqual(unpacked_state(content).digest, state.digest)  # type: ignore[union-attr]
        dice = chance.dice(4)
        for _ in range(200):
            broken = bytearray(content)
            broken[dice.randrange(len(broken))] ^= 1 << dice.randrange(8)
            found = unpacked_state(bytes(broken[: dice.randrange(len(broken) + 1)]))
            self.assertNotEqual(found, state)
