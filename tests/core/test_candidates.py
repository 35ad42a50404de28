"""A listing's files → the releases that could be chosen: which fit, and which comes first."""

import unittest

from rabbet.core.model.release import ListedFile, Listing
from rabbet.core.needs.names import library_name
from rabbet.python.choosing.candidates import candidates_for
from rabbet.python.choosing.file_name import listed_file, parse_wheel_name
from rabbet.python.choosing.targets import joined, named_target

GLIBC, MUSL = "manylinux_2_17_x86_64", "musllinux_1_1_x86_64"
TARGETS = {
    "glibc": [named_target("linux-x86_64", "3.12", {})],
    "old glibc": [named_target("linux-x86_64", "3.12", {"glibc": "2.12"})],
    "musl": [named_target("linux-x86_64-musl", "3.12", {})],
    "both": [named_target(platform, "3.12", {}) for platform in ("linux-x86_64", "linux-x86_64-musl")],
}
# target, what follows the version in the files' names → the same of the fitting ones (best first), or why not
CASES = [
    ("glibc", [f"cp312-cp312-{GLIBC}", f"cp312-cp312-{MUSL}"], [f"cp312-cp312-{GLIBC}"]),
    ("musl", [f"cp312-cp312-{GLIBC}", f"cp312-cp312-{MUSL}"], [f"cp312-cp312-{MUSL}"]),
    ("old glibc", [f"cp312-cp312-{GLIBC}"],
     "no wheel for linux-x86_64 with Python 3.12: needs glibc 2.17, the baseline is 2.12"),
    ("both", [f"cp312-cp312-{GLIBC}"], "no wheel for linux-x86_64-musl with Python 3.12"),
    ("both", [f"cp312-cp312-{MUSL}"], "no wheel for linux-x86_64 with Python 3.12"),
    ("both", [f"cp312-abi3-{MUSL}", f"cp312-cp312-{GLIBC}"], [f"cp312-cp312-{GLIBC}", f"cp312-abi3-{MUSL}"]),
    ("both", ["py3-none-any"], ["py3-none-any"]),
    ("glibc", ["py3-none-any", "10-py3-none-any", "9x-py3-none-any"],
     ["10-py3-none-any", "9x-py3-none-any", "py3-none-any"]),
    ("glibc", ["9-py3-none-any", f"cp312-cp312-{GLIBC}"], [f"cp312-cp312-{GLIBC}", "9-py3-none-any"]),
]  # fmt: skip


def _wheel(filename: str) -> ListedFile:
    return listed_file(parse_wheel_name(filename), filename, "", "test")


def _listing(*filenames: str) -> Listing:
    wheels = tuple(_wheel(filename) for filename in filenames)
    return Listing(name=library_name("combframe"), source="test", files=wheels)


class WhatFits(unittest.TestCase):
    """Of one release's wheels."""

    def test_cases(self) -> None:
        for targets, files, expected in CASES:
            with self.subTest(targets, files=files):
                (target,) = joined(TARGETS[targets])
                found = candidates_for(_listing(*(f"combframe-1.0-{file}.whl" for file in files)), target)
                if isinstance(expected, str):
                    self.assertEqual([release.reason for release in found.rejected], [expected])
                    self.assertEqual(found.releases, ())
                else:
                    (release,) = found.releases
                    kept = [file.filename.removeprefix("combframe-1.0-")[:-4] for file in release.files]
                    self.assertEqual(kept, expected)

    def test_doubles(self) -> None:
        """Of two files whose names say the same, one is taken, whatever their order, and one is named."""
        names = ["Comb.Frame-1.0-py3-none-any.whl", "comb_frame-1.0-py3-none-any.whl"]
        for files in (names, names[::-1]):
            (release,) = candidates_for(_listing(*files), TARGETS["glibc"][0]).releases
            self.assertEqual([file.filename for file in release.files], names[:1])
            self.assertEqual(release.doubles, tuple(names[1:]))

    def test_partly_yanked(self) -> None:
        """Of a release with a yanked file the other one is taken, though it fits less well."""
        listing = _listing(f"combframe-1.0-cp312-cp312-{GLIBC}.whl", "combframe-1.0-py3-none-any.whl")
        yanked = listing.files[0]._replace(yanked="broken")
        files = Listing(name=listing.name, source="test", files=(yanked, listing.files[1]))
        (release,) = candidates_for(files, TARGETS["glibc"][0]).releases
        self.assertEqual((release.files, release.withdrawn), ((listing.files[1],), None))

    def test_only_what_no_marker_tells_apart_is_joined(self) -> None:
        platforms = ("linux-x86_64", "linux-x86_64-musl", "linux-aarch64")
        targets = [named_target(name, python, {}) for python in ("3.11", "3.12") for name in platforms]
        found = [str(target) for target in joined(targets)]
        alike = "linux-x86_64 and linux-x86_64-musl with Python 3."
        self.assertEqual([target for target in found if "and" in target], [f"{alike}11", f"{alike}12"])
        self.assertEqual(len(found), 4)
