"""Locks from others: whatever is wrong with one is told with its place."""

import tomllib
import unittest
from pathlib import Path

from rabbet.errors import EnvironmentFailed, NotUnderstood
from rabbet.formats.pylock import read_lock
from rabbet.python.choosing.select import needed
from rabbet.python.choosing.targets import named_target
from tests.support.catalogue import EMPTY

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "lock_edits.toml").read_text())
ZEROS = "0" * 64
FILE = 'path = "x", size = 1, hashes = { sha256 = "' + ZEROS + '" }'
GOOD = f"""
lock-version = "1.0"
created-by = "rabbet"
[[packages]]
name = "combframe"
version = "2.1"
wheels = [{{ name = "combframe-2.1-py3-none-any.whl", {FILE} }}]
[[packages]]
name = "pollencsv"
version = "1.2"
requires-python = ">=3.8"
dependencies = [{{ name = "tallywax" }}]
wheels = [{{ name = "pollencsv-1.2-py3-none-any.whl", url = "http://apiary.example/x", {FILE[12:]} }}]
[tool.rabbet]
"""
LARGE = {
    "LONG": "x" * 9000,
    "DEEP": "(" * 1000 + "os_name == 'nt'" + ")" * 1000,
    "DIGITS": "9" * 5000,
    "KEYS": ".".join(["a"] * 3000),
    "ZEROS": ZEROS,
}


class Edits(unittest.TestCase):
    """The table in `data/lock_edits.toml`."""

    def test_good(self) -> None:
        self.read(GOOD)

    def test_cases(self) -> None:
        for case in TABLE["case"]:
            old, new = case["edit"]
            for word, text in LARGE.items():
                new = new.replace(word, text)
            with self.subTest(case["title"]):
                self.assertIn(old, GOOD)
                kind = EnvironmentFailed if case.get("code") == 7 else NotUnderstood
                with self.assertRaises(kind) as raised:
                    self.read(GOOD.replace(old, new, 1))
                told = "\n".join([str(raised.exception), *raised.exception.because])
                for words in case["words"]:
                    self.assertIn(words, told)
                self.assertLess(len(told), 1000)

    def read(self, text: str) -> None:
        lock = read_lock(text)
        needed(lock, named_target("linux-x86_64", "3.12", {}), lock.everything, EMPTY)
