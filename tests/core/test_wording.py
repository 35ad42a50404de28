"""What findings say and what is declared, in words: one row for each case."""

import unittest

from packaging.version import Version

from rabbet.core.declaration.entries import entries
from rabbet.core.drift.words import why
from rabbet.core.model.cause import (
    ByHand,
    Cause,
    Installation,
    InterpreterChanged,
    LeftOut,
    MadeForSections,
    Reason,
    ReasonWith,
    RuleBroken,
    SecondCopy,
    Shadow,
    Unchecked,
    reason_of,
)
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.lock import Selection
from rabbet.core.needs.names import library_name
from rabbet.formats.project.pyproject import read_declaration
from rabbet.python.code.imports import ImportCause, ImportReason
from rabbet.python.code.words import cause_text

WHOLE = """
[project]
name = "hives"
version = "1.2"
requires-python = ">=3.11"
dependencies = ["nectarplot>=2"]
[dependency-groups]
checks = ["mitewatch"]
[build-system]
requires = []
build-backend = "comb:wax"
[tool.rabbet]
limits = ["tallywax<3"]
without = ["skepio", "broodcount"]
targets = ["macos-arm64", "linux-x86_64"]
pythons = ["3.12"]
newest = "same"
as-of = "2026-05-01"
build-from-source = ["queenmark"]
baselines = { glibc = "2.34" }
local = { honeyflow = "../honeyflow", combframe = "../combframe" }
system = { debian = ["libpq5", "libwax"] }
sources = [{ name = "a", url = "wheels" }, { name = "b", url = "built", builds = true }]
catalogues = [{ name = "shelf", url = "shelf" }]
corrections = { "nectarplot==2.1" = { drop = ["combframe"] } }
runtimes = { node = ">=20" }
builds = { queenmark = { variables = { WAX = "1" }, settings = { speed = "2" }, needs = ["swarmcast"] } }
[tool.rabbet.variants.old]
runtimes = { python = "<3.13", node = "<21" }
requirements = ["nectarplot<3"]
"""
ENTRIES = [
    ("project", "hives", "hives 1.2, built by comb:wax"),
    ("runtime", "python", "python>=3.11"),
    ("runtime", "node", "node>=20"),
    ("library", "nectarplot", "nectarplot>=2"),
    ("group checks", "mitewatch", "mitewatch"),
    ("limit", "tallywax", "tallywax<3"),
    ("without", "broodcount", "broodcount"),
    ("without", "skepio", "skepio"),
    ("correction", "of nectarplot==2.1", "nectarplot==2.1: without combframe"),
    ("target", "macos-arm64", "macos-arm64"),
    ("target", "linux-x86_64", "linux-x86_64"),
    ("python", "3.12", "3.12"),
    ("baseline", "glibc", "glibc=2.34"),
    ("newest", "", "the same for all targets"),
    ("as-of", "", "2026-05-01"),
    ("variant old", "python", "python<3.13"),
    ("variant old", "node", "node<21"),
    ("variant old", "nectarplot", "nectarplot<3"),
    ("checkout", "combframe", "combframe in ../combframe"),
    ("checkout", "honeyflow", "honeyflow in ../honeyflow"),
    ("build from source", "queenmark", "queenmark"),
    ("build of queenmark", "queenmark", "WAX=1"),
    ("build of queenmark", "queenmark", "setting speed=2"),
    ("build of queenmark", "queenmark", "needs swarmcast"),
    ("system", "debian", "libpq5, libwax (debian)"),
    ("source", "a", "a=wheels"),
    ("builds of the team", "b", "b=built"),
    ("catalogue", "shelf", "shelf=shelf"),
]
LITTLE = [
    ('name = "hives"', ["hives", "python"]),
    ('name = "hives"\ndynamic = ["version"]', ["hives (its build tells the version)", "python"]),
    ('name = "hives"\nversion = "2"', ["hives 2", "python"]),
    (
        'name = "hives"\nversion = "2"\ndynamic = ["dependencies"]',
        ["hives 2, built by b", "its build tells them, when it is asked: rabbet resolve", "python"],
    ),
]


def shadow(*, project: bool) -> Shadow:
    """A module that Python finds somewhere else."""
    library = library_name("combframe")
    return Shadow(library=library, version=Version("2.0"), module="comb", file="comb.py", project=project)


PLAIN = [Reason.START_UP, Reason.UNRECORDED, Reason.UNFINISHED, Reason.NO_METADATA]
PLAIN += [Reason.REMOVED, Reason.OTHER_LOCK, Reason.NOT_MADE_HERE, Reason.EDITED_LOCK, Reason.EXPORTED]
PLAIN += [Reason.DECLARATION_CHANGED, Reason.OBTAINABLE, Reason.PERMISSIONS, Reason.BUILT_OTHERWISE]
PLAIN += [Reason.NONE_FITS, Reason.NOT_LINKED, Reason.NOT_DECLARED, Reason.KERNEL_LOST]
HANDY = Installation(installer="handy")
FACTS = [
    (ReasonWith(Reason.YANKED, "wax"), "2.0 was yanked: wax"),
    (ReasonWith(Reason.YANKED, ""), "2.0 was yanked: no reason is given"),
    (ReasonWith(Reason.MADE_WITH, "/bin/wax"), "it was made with Python 3.11.2 of /bin/wax"),
    (ReasonWith(Reason.OTHER_LINKED, "/bin/wax"), "linked is /bin/wax"),
    (ReasonWith(Reason.NOT_A_FOLDER, "bin"), "bin is not a folder"),
    (ReasonWith(Reason.IS_A_LINK, "state"), "state is a link"),
    (ReasonWith(Reason.OWN_FILE_ALTERED, "bin/wax"), "bin/wax was altered"),
    (ReasonWith(Reason.OWN_FILE_GONE, "bin/{wax}"), "bin/{wax} is gone"),
    (ReasonWith(Reason.INTERPRETER_GONE, "/wax"), "its interpreter /wax is gone"),
    (
        ReasonWith(Reason.INTERPRETER_UNKNOWN, "/wax"),
        "its interpreter /wax is not among those found on this machine",
    ),
    (ReasonWith(Reason.INTERPRETER_REFUSED, "/wax: it hurts"), "its interpreter /wax: it hurts"),
    (
        Unchecked(reason=Reason.NO_RECORD, libraries=tuple("abcdef")),
        "without a record of their files, so they can't be checked: a, b, c, d, e, …",
    ),
    (
        Unchecked(reason=Reason.COMPILED_LATER, libraries=("wax",)),
        "Python compiled modules of these itself, so these modules can't be checked: wax",
    ),
    (
        MadeForSections(chosen=Selection(), locked=Selection(frozenset(["b", "a"]), frozenset(["c"]))),
        "it was made for no groups and extras; the lock has group a, group b, extra c",
    ),
    (
        InterpreterChanged(executable="/wax", before=Version("3.11"), now=Version("3.12")),
        "its interpreter /wax was changed from 3.11 to 3.12",
    ),
    (ReasonWith(Reason.NOT_ON_SYSTEM, "not installed here"), "not installed here"),
    (ReasonWith(Reason.SYSTEM_UNKNOWN, "not checked"), "not checked"),
    (LeftOut(3), "3 of what is not in the lock, as the declaration asks for"),
    (RuleBroken(rule="age", told="uploaded today"), "uploaded today"),
    (
        ReasonWith(Reason.RULES_UNKNOWN, "no records"),
        "whether rules are broken can't be told: no records",
    ),
    (ReasonWith(Reason.NOT_EXPECTED, "skepio>=2 is expected"), "skepio>=2 is expected"),
    (SecondCopy(installation=HANDY), "a second copy"),
    (ByHand(installation=HANDY), ""),
    (shadow(project=False), "import comb takes comb.py, which Python finds first"),
    (
        shadow(project=True),
        "import comb takes the project's comb.py where a program is started in its folder",
    ),
]
KINDS = [
    (Kind.BUILD, None, "made from another file of this release"),
    (Kind.ORIGIN, None, "made from a file that is not locked"),
    (Kind.ORIGIN, ByHand(installation=HANDY), "from which file it was made is unknown"),
    (Kind.SURPLUS, ByHand(installation=HANDY), ""),
]


def finding(cause: Cause | None, kind: Kind = Kind.VERSION) -> Finding:
    """A made-up finding."""
    subject = Subject.library("combframe")
    versions = {"locked": Version("2.0"), "installed": Version("3.11.2")}
    return Finding(kind=kind, subject=subject, weight=Weight.NOTE, cause=cause, **versions)


class Wording(unittest.TestCase):
    """Sentences of the core."""

    def test_reasons(self) -> None:
        """Each cause says something of its own; some of them what somebody else told."""
        self.assertEqual({*PLAIN, *(reason_of(cause) for cause, _ in FACTS)}, set(Reason))
        for cause, text in FACTS:
            with self.subTest(cause):
                self.assertEqual(why(finding(cause)), text)
        texts = {why(finding(reason)) for reason in PLAIN}
        self.assertEqual(len(texts), len(PLAIN))
        self.assertFalse([text for text in texts if len(text.split()) < 2])

    def test_imports(self) -> None:
        """Each cause of a finding on imports says something of its own, and tells its names."""
        texts = {cause_text(ImportCause(reason, ("wax", "hum"))) for reason in ImportReason}
        self.assertEqual(len(texts), len(ImportReason))
        self.assertIn("it brings the command wax, hum", texts)
        self.assertEqual(cause_text(None), "")

    def test_kinds(self) -> None:
        """Without a reason, some kinds say more than their name."""
        for kind, cause, text in KINDS:
            with self.subTest(kind, cause=cause):
                self.assertEqual(why(finding(cause, kind)), text)

    def test_entries(self) -> None:
        """All that can be declared, in order; and hardly anything."""
        self.assertEqual([*entries(read_declaration(WHOLE, folder_name="hives"))], ENTRIES)
        for text, expected in LITTLE:
            build = '[build-system]\nrequires = []\nbuild-backend = "b"\n' if "dependencies" in text else ""
            declared = read_declaration(f"{build}[project]\n{text}\n", folder_name="hives")
            with self.subTest(text):
                self.assertEqual([entry.text for entry in entries(declared)], expected)
