"""Packages of the operating system, looked for in made-up databases."""

import os
import tempfile
import unittest
from pathlib import Path

from rabbet.runtimes.system_packages import lacking_packages, this_system
from tests.support import chance

DPKG = """\
Package: dpkg
Status: install ok installed
Architecture: amd64
Version: 1.21

Package: libhive5
Status: install ok installed
Architecture: amd64
Provides: libhive (= 5.1), hive-reader
Description: reads scales
 Package: in-a-text
 .
 Status: install ok installed

Package: wax-common
Status: hold ok installed
Architecture: all

Package: gone-comb
Status: deinstall ok config-files
Architecture: amd64

Package: other-machine
Status: install ok installed
Architecture: i386
"""
APK = """\
C:Q1abc=
P:libhive
V:5.1-r0
p:so:libhive.so.5=5.1 hive-reader=5 cmd:hive

P:wax
V:1
"""
NAMES = ["libhive5", "libhive", "hive-reader", "wax-common", "gone-comb", "other-machine", "in-a-text"]
# what stands in os-release → which of debian and fedora it is
SYSTEMS = {
    'ID=debian\nPRETTY_NAME="Debian GNU/Linux 12"\n': "debian",
    "ID=hivelinux\nID_LIKE='honey debian'\n": "debian",
    'NAME=x\nID="redhive"\nID_LIKE="rhel fedora"\n': "fedora",
    "ID=alpine\n": None,
    "ID_LIKE=\n=\n\x00ID": None,
    "": None,
}


class SystemPackages(unittest.TestCase):
    """Below a root of its own."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.root = Path(holder.name)

    def write(self, place: str, content: str | bytes) -> None:
        path = self.root / place
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content.encode() if isinstance(content, str) else content)

    def lacking(self, distribution: str, *names: str) -> tuple[str, ...] | None:
        return lacking_packages(distribution, names, os.environ, self.root)

    def test_systems(self) -> None:
        """The distribution itself, else the first that it is made from."""
        for text, expected in SYSTEMS.items():
            with self.subTest(text):
                self.write("etc/os-release", text)
                self.assertEqual(this_system(self.root).distribution(("debian", "fedora")), expected)

    def test_databases(self) -> None:
        """Installed counts, by the package's own name or another that it provides, for this architecture."""
        self.assertIsNone(self.lacking("debian", "libhive5"), "nobody knows")
        self.write("var/lib/dpkg/status", DPKG)
        self.assertEqual(self.lacking("debian", *NAMES, *NAMES), ("gone-comb", "other-machine", NAMES[-1]))
        self.assertIsNone(self.lacking("alpine", "libhive"))
        self.write("lib/apk/db/installed", APK)
        names = ("libhive", "hive-reader", "so:libhive.so.5", "wax", "wax-dev")
        self.assertEqual(self.lacking("alpine", *names), ("wax-dev",))

    def test_rpm(self) -> None:
        """Rpm's answer counts, and its failures are no answer."""
        answers = {'test "$4" = libhive': ("wax",), "echo broken >&2; exit 1": None, "exit 0": ()}
        for script, expected in answers.items():
            self.write("bin/rpm", f"#!/bin/sh\n{script}\n")
            (self.root / "bin" / "rpm").chmod(0o755)
            environ = {"PATH": f"{self.root / 'bin'}:/usr/bin:/bin"}
            with self.subTest(script):
                found = lacking_packages("fedora", ["libhive", "wax"], environ, self.root)
                self.assertEqual(found, expected)

    def test_any_bytes(self) -> None:
        """A database of any bytes gives an answer, and never a package that it does not name."""
        dice = chance.dice(3)
        for _ in range(50):
            self.write("var/lib/dpkg/status", dice.randbytes(dice.randrange(400)) + b"\n\n")
            self.assertEqual(self.lacking("debian", "libhive5"), ("libhive5",))
