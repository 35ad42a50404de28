"""Metadata that no library should have."""

import unittest

from packaging.version import Version

from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, whole

PLAIN = {"Metadata-Version": "2.1", "Name": "combframe", "Version": "1.0"}
HUGE = "1" * 5000
# fields that are added or replaced → a part of the reason (none: it can be read)
CASES = [
    ({"Requires-Dist": "skepio>=1"}, ""),
    ({"Requires-Dist": "skepio>=>1"}, "not a requirement"),
    ({"Requires-Dist": f"skepio>={HUGE}"}, "characters"),
    ({"Requires-Python": f">={HUGE}"}, "characters"),
    ({"Requires-Python": ">=three"}, "can't be read"),
    ({"Version": HUGE}, "characters"),
    ({"Version": "one"}, "can't be read"),
]


class Broken(unittest.TestCase):
    """What can't be used is told as such, never as an error of the program."""

    def test_cases(self) -> None:
        for change, reason in CASES:
            text = "".join(f"{field}: {value}\n" for field, value in {**PLAIN, **change}.items())
            with self.subTest(change=str(change)[:60]):
                if reason:
                    with self.assertRaisesRegex(MetadataBroken, reason):
                        whole(parse_metadata(text.encode()))
                else:
                    self.assertEqual(parse_metadata(text.encode()).version, Version("1.0"))
