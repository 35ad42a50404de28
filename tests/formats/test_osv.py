"""Records of vulnerabilities: what is read of one, and what hostile ones cost; licences in metadata."""

import json
import unittest

from rabbet.formats.osv import MOST_RECORD, RecordBroken, read_record
from rabbet.python.formats.licence import licence_in

RANGE = {"type": "ECOSYSTEM", "events": [{"introduced": "0"}, {"fixed": "1.2"}]}
PACKAGE = {"ecosystem": "PyPI", "name": "Tally.Wax"}


def record(**changes: object) -> bytes:
    """A record about tallywax, with these fields in place of its own."""
    affected = [{"package": PACKAGE, "ranges": [RANGE]}]
    return json.dumps({"id": "HIVE-1", "affected": affected, **changes}).encode()


def affecting(**changes: object) -> bytes:
    """The same with other content in `affected`."""
    return record(affected=[{"package": PACKAGE, "ranges": [RANGE], **changes}])


# What is of no use, and raises.
BROKEN = {
    "no JSON": b"the bees are asleep",
    "empty": b"",
    "a list": b"[]",
    "cut off": record()[:-9],
    "no id": b"{}",
    "wrong types": record(aliases="HIVE-2"),
    "a number for a version": affecting(ranges=[{"type": "ECOSYSTEM", "events": [{"introduced": 1}]}]),
    "no version": affecting(ranges=[{"type": "ECOSYSTEM", "events": [{"introduced": "first"}]}]),
    "no semantic version": affecting(ranges=[{"type": "SEMVER", "events": [{"introduced": "1.0"}]}]),
    "a huge version": affecting(ranges=[{"type": "ECOSYSTEM", "events": [{"fixed": "1" * 5000}]}]),
    "many versions": affecting(versions=[str(number) for number in range(6000)]),
    "many packages": record(affected=[{"package": PACKAGE, "ranges": [RANGE]}] * 6000),
    "deep": b'{"id": "HIVE-1", "database_specific": ' + b"[" * 200_000 + b"]" * 200_000 + b"}",
    "large": record(details="x" * MOST_RECORD),
    "an id that moves the cursor": record(id="HIVE-\x1b[2J"),
    "an id of two lines": record(id="HIVE-1\nerror: all is lost"),
    "no text": b'{"id": "\xff\xfe"}',
}
# What says nothing of any library here, and raises nothing.
SILENT = {
    "withdrawn": record(withdrawn="2026-01-01T00:00:00Z"),
    "another world": record(
        affected=[{"package": {"ecosystem": "npm", "name": "tallywax"}, "ranges": [RANGE]}]
    ),
    "no name": record(
        affected=[{"package": {"ecosystem": "PyPI", "name": "../tallywax"}, "ranges": [RANGE]}]
    ),
    "commits": affecting(ranges=[{"type": "GIT", "events": [{"introduced": "0"}]}]),
    "nothing affected": record(affected=None),
}
OSI = "Classifier: License :: OSI Approved ::"
# Fields of metadata, and the expression that they tell.
LICENCES = (
    ("License-Expression: MIT OR Zlib", "MIT OR Zlib"),
    ("License-Expression: mit", "MIT"),
    ("License-Expression: our own", None),
    ("License: MIT", "MIT"),
    ("License: MIT License", "MIT"),
    ("License: Apache License, Version 2.0", "Apache-2.0"),
    ("License: Apache-2.0", "Apache-2.0"),
    ("License: BSD 3-Clause License", "BSD-3-Clause"),
    ("License: BSD", None),
    ("License: Permission is hereby granted\n  to everybody", None),
    ("License: UNKNOWN", None),
    ("Classifier: License :: OSI Approved :: MIT License", "MIT"),
    ("Classifier: License :: OSI Approved :: BSD License", None),
    ("Classifier: License :: OSI Approved :: Apache Software License", None),
    ("License: Apache-2.0\nClassifier: License :: OSI Approved :: Apache Software License", "Apache-2.0"),
    ("License: MIT\nClassifier: License :: OSI Approved :: BSD License", None),
    (f"{OSI} MIT License\n{OSI} ISC License (ISCL)", None),
    ("Classifier: License :: OSI Approved", None),
    ("", None),
)


class Records(unittest.TestCase):
    """One record at a time."""

    def test_read(self) -> None:
        vectors = [{"type": "CVSS_V3", "score": "CVSS:3.1/AV:N"}]
        own = [{"type": "CVSS_V4", "score": "CVSS:4.0/AV:N"}]
        told = record(
            aliases=["APIARY-7", "no\nid"],
            summary="runs \x1b[31mcommands",
            severity=vectors,
            published="2026-04-01T00:00:00Z",
            affected=[
                {"package": PACKAGE, "ranges": [RANGE], "severity": own},
                {"package": PACKAGE, "versions": ["3.0"]},
                {"package": {"ecosystem": "PyPI:hive", "name": "skepio"}, "versions": ["1"]},
            ],
        )
        found = dict(read_record(told))
        self.assertEqual([*found], ["tally-wax", "skepio"])
        advisory = found["tally-wax"]
        self.assertEqual(advisory.ids, ("HIVE-1", "APIARY-7"))
        self.assertEqual((advisory.versions, len(advisory.ranges)), (("3.0",), 1))
        self.assertEqual(
            (advisory.vectors, found["skepio"].vectors), (("CVSS:4.0/AV:N",), ("CVSS:3.1/AV:N",))
        )
        self.assertEqual(advisory.summary, r"runs \x1b[31mcommands")

    def test_hostile(self) -> None:
        for what, content in BROKEN.items():
            with self.subTest(what), self.assertRaises(RecordBroken) as raised:
                list(read_record(content))
            self.assertLess(len(str(raised.exception)), 1200)
        for what, content in SILENT.items():
            with self.subTest(what):
                self.assertEqual(list(read_record(content)), [])


class Licences(unittest.TestCase):
    """What metadata says without ambiguity."""

    def test_fields(self) -> None:
        for fields, expected in LICENCES:
            with self.subTest(fields):
                content = f"Metadata-Version: 2.1\nName: x\nVersion: 1\n{fields}\n\ntext".encode()
                self.assertEqual(licence_in(content).expression, expected)
        self.assertIsNone(licence_in(b"x" * 20_000_000).expression)
