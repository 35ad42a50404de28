"""Numbers of more digits than Python reads (4,300): refused wherever a text may hold one."""

import json
import unittest
from collections.abc import Callable
from functools import partial

from rabbet.core.model.lock import Lock
from rabbet.core.needs.names import library_name
from rabbet.errors import NotUnderstood
from rabbet.formats.pylock import read_lock
from rabbet.formats.text.requirement import parse_requirement, parse_runtime, parse_specifiers
from rabbet.python.choosing.candidates import candidates_for
from rabbet.python.choosing.serving import serves
from rabbet.python.choosing.targets import named_target
from rabbet.python.formats.simple_index import parse_json

HUGE = "1" * 5000
LOCK = 'lock-version = "1.0"\ncreated-by = "rabbet"\n[[packages]]\nname = "combframe"\nversion = "{}"\n'
FILE = {"filename": "combframe-1.0-py3-none-any.whl", "url": "x", "requires-python": f">={HUGE}"}
TARGET = named_target("linux-x86_64", "3.12", {})
WHEEL = f"""
[[packages.wheels]]
url = "https://apiary.example/combframe-1.0-py3-none-any.whl"
hashes = {{{{ sha256 = "{"ab" * 32}" }}}}
size = {{}}
"""
REFUSED: list[Callable[[], object]] = [
    lambda: parse_requirement(f"combframe>={HUGE}"),
    lambda: parse_requirement(f"combframe; python_version>'{HUGE}'"),
    lambda: parse_runtime(f"python>={HUGE}"),
    lambda: parse_specifiers(f">={HUGE}"),
    lambda: read_lock(LOCK.format(HUGE), "pylock.toml"),
    *(
        partial(read_lock, LOCK.format("1.0") + WHEEL.format(size), "pylock.toml")
        for size in (HUGE, "9" * 4000, f"1.{HUGE}", f"1e{HUGE}", "inf", "-1", 1 << 60)
    ),
    lambda: serves(
        Lock(
            requires_python=None,
            environments=(f"python_version > '{HUGE}'",),
            groups=(),
            libraries=(),
            fingerprint=None,
        ),
        TARGET,
    ),
]


class Refused(unittest.TestCase):
    """Told as what can't be understood; an index's constraint that nobody can read refuses nothing."""

    def test_texts(self) -> None:
        for number, read in enumerate(REFUSED):
            with self.subTest(number), self.assertRaises(NotUnderstood):
                read()

    def test_listing(self) -> None:
        page, name = json.dumps({"files": [FILE]}).encode(), library_name("combframe")
        listing = parse_json(page, name=name, source="s", address="https://apiary.example/simple/")
        self.assertEqual(len(candidates_for(listing, TARGET).releases), 1)
