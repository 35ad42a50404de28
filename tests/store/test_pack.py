"""Many small contents in one file: never a wrong one, whatever becomes of it, and many writers at once."""

import os
import shutil
import sqlite3
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from rabbet.store.pack import Pack

STEPS = st.lists(
    st.tuples(st.sampled_from("abcd"), st.one_of(st.none(), st.binary(max_size=40)), st.booleans()),
    max_size=30,
)


class Packs(unittest.TestCase):
    """A pack beside a dictionary."""

    def setUp(self) -> None:
        self.file = Path(self.enterContext(tempfile.TemporaryDirectory()), "part", "all.sqlite")

    @given(STEPS, st.integers(0, 400), st.binary(max_size=20))
    def test_as_a_dictionary(
        self, steps: list[tuple[str, bytes | None, bool]], at: int, damage: bytes
    ) -> None:
        """It gives back what was remembered last; after damage that, or less, and then it works again."""
        self.file.unlink(missing_ok=True)
        known: dict[str, bytes] = {}
        ever: dict[str, set[bytes | None]] = {key: {None} for key in "abcd"}
        pack = Pack(self.file)
        for key, content, fresh in steps:
            if content is None:
                pack.forget(key)
                known.pop(key, None)
            else:
                pack.remember(key, content)
                known[key] = content
                ever[key].add(content)
            if fresh:
                pack.close()
                pack = Pack(self.file)
            self.assertEqual({key: pack.recall(key) for key in pack}, known)
        pack.close()
        if self.file.exists():
            content = self.file.read_bytes()
            self.file.write_bytes(content[:at] + damage + content[at + len(damage) :])
        for key, contents in ever.items():
            self.assertIn(pack.recall(key), contents)
        for key, content in known.items():
            pack.remember(key, content)
        pack.close()
        self.assertEqual({key: pack.recall(key) for key in known}, known)
        pack.close()

    def test_what_lies_in_its_place(self) -> None:
        """A file that is none of its own makes way; what is no file is left alone, and nothing is kept."""

        def database(*statements: str) -> None:
            with closing(sqlite3.connect(self.file)) as made:
                for statement in statements:
                    made.execute(statement)
                made.commit()

        elsewhere = self.file.parent.parent / "elsewhere"
        for kind, make, kept in (
            ("empty", self.file.touch, True),
            ("a text", lambda: self.file.write_text("honey" * 1000), True),
            ("another table", lambda: database("CREATE TABLE hives (name)", "PRAGMA user_version = 1"), True),
            ("a newer form", lambda: database("CREATE TABLE hives (name)", "PRAGMA user_version = 9"), True),
            ("a pipe", lambda: os.mkfifo(self.file), False),
            ("a folder", self.file.mkdir, False),
            ("a link", lambda: self.file.symlink_to(elsewhere), False),
        ):
            with self.subTest(kind):
                self.file.parent.mkdir(exist_ok=True)
                make()
                for _ in range(2):  # what is damaged makes way first
                    pack = Pack(self.file)
                    pack.remember("a", b"wax")
                    self.assertEqual(pack.recall("a"), b"wax")
                    pack.close()
                self.assertEqual(Pack(self.file).recall("a"), b"wax" if kept else None)
                self.assertFalse(elsewhere.exists())
                shutil.rmtree(self.file) if kind == "a folder" else self.file.unlink()

    def test_many_writers(self) -> None:
        """What several write at once is all there; what is written over and over takes no room for ever."""

        def write(number: int) -> None:
            pack = Pack(self.file)
            for turn in range(5):
                pack.remember(f"{number}-{turn}", bytes([number]) * 1000)
                pack.flush()
            pack.close()

        with ThreadPoolExecutor(8) as threads:
            list(threads.map(write, range(8)))
        pack = Pack(self.file)
        self.assertEqual(len(list(pack)), 40)
        for _ in range(30):
            pack.remember("0-0", bytes(200_000))
            pack.close()
        self.assertLess(self.file.stat().st_size, 2_000_000)
