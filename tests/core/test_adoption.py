"""What is declared of what a project has: cases, and what holds whatever is installed."""

import unittest

from msgspec.structs import replace
from packaging.version import Version

from rabbet.core.declaration.model import Section
from rabbet.core.needs.names import library_name
from rabbet.python.code.adoption import Adoption, Evidence, Listed, Present, adopt
from rabbet.python.code.imports import ImportSite, LibraryContents, role_of
from tests.support import chance
from tests.support.catalogue import requirement

DEV = Section("group", "dev")
# name, version, what it needs, and what else is known of it
INSTALLED = [
    ("nectarplot", "2.1.3", ["combframe", "honeyflow"], {}),
    ("combframe", "2.0", ["tallywax"], {}),
    ("tallywax", "1.2", [], {}),
    ("honeyflow", "1.2", ["combframe"], {}),
    (
        "mitewatch",
        "0.6",
        [],
        {"offered": LibraryContents(modules=frozenset({"mitewatch"}), commands=("mitewatch",))},
    ),
    ("skepio", "0.4", [], {}),
    ("handy", "9", [], {"installer": "handy"}),
    ("combwright", "1.0", [], {"offered": LibraryContents(plugins=("distutils.commands",))}),
    ("hivewire", "2.0", [], {"origin": "https://apiary.example/hive.git at a1"}),
    ("hivescale", "1.0", ["nectarplot"], {"origin": "file:///hivescale"}),
]
CODE = [
    "hivescale.py nectarplot",
    "hivescale.py combframe.deep",
    "tests/test_x.py skepio",
    "x.py royaljelly",
    "x.py os",
]
LEFT = ["handy 9", "combwright 1.0", "hivewire 2.0"]

# title, what is listed, whether there is an environment, and code → entries, limits, preferred, left
CASES = [
    (
        "what the program imports is its own, whatever list has it; constraints keep their markers",
        [
            "dev: combframe==2.0",
            "dev: nectarplot",
            "!combframe<3; os_name == 'nt'",
            "!tallywax<2; os_name == 'nt'",
        ],
        True,
        ["hivescale.py combframe", "tests/test_x.py nectarplot"],
        ["combframe>=2.0", "group dev: nectarplot", "group dev: mitewatch>=0.6"],
        ['combframe<3; os_name == "nt"', 'tallywax<2; os_name == "nt"'],
        5,
        ["skepio 0.4", *LEFT],
    ),
    (
        "pins that are split by marker say no version",
        ["combframe==1.9; os_name == 'nt'", "combframe==2.0; os_name != 'nt'"],
        False,
        [],
        ['combframe>=1.9; os_name == "nt"', 'combframe>=2.0; os_name != "nt"'],
        [],
        0,
        [],
    ),
    ("an environment alone", [], True, [], ["nectarplot>=2.1", "mitewatch>=0.6", "skepio>=0.4"], [], 6, LEFT),
    (
        "an environment, and code",
        [],
        True,
        CODE,
        ["combframe>=2.0", "nectarplot>=2.1", "group dev: mitewatch>=0.6", "group tests: skepio>=0.4"],
        [],
        6,
        [*LEFT, "import royaljelly"],
    ),
    (
        "pins, of which the environment knows some better, and one that only comes along",
        ["combframe==1.9", "tallywax==1.0", "queenmark[x]==3.0.1; os_name == 'nt'"],
        True,
        ["hivescale.py combframe"],
        ["combframe>=1.9", 'queenmark[x]>=3.0; os_name == "nt"', "group dev: mitewatch>=0.6"],
        [],
        4,
        ["nectarplot 2.1.3", "skepio 0.4", *LEFT],
    ),
    (
        "lists alone, for the project and a group",
        ["dev: combframe", "combframe>=2", "dev: skepio==0.4", "combframe<1; os_name == 'nt'"],
        False,
        [],
        ["combframe>=2", 'combframe<1; os_name == "nt"', "group dev: skepio>=0.4"],
        [],
        1,
        [],
    ),
    (
        "constraints",
        ["combframe>=1", "!combframe<3", "!tallywax<2", "!skepio==0.4"],
        False,
        [],
        ["combframe<3,>=1"],
        ["tallywax<2"],
        1,
        [],
    ),
]


def present(name: str, version: str, needs: list[str], more: dict) -> Present:
    """An installed library; without more, it offers a module of its name."""
    offered = {"offered": LibraryContents(modules=frozenset({name}))}
    return Present(version=Version(version), needs=frozenset(map(library_name, needs)), **{**offered, **more})


def site(text: str) -> ImportSite:
    """`FILE MODULE`."""
    file, _, module = text.partition(" ")
    return ImportSite(module, (), file, 1, role_of(file))


def listed(text: str) -> Listed:
    """A requirement; behind `!` it is a constraint, behind `dev:` in a group."""
    section = DEV if text.startswith("dev: ") else None
    plain = text.removeprefix("dev: ").removeprefix("!")
    return Listed(need=requirement(plain), place="list", section=section, constraint=text.startswith("!"))


def shown(adoption: Adoption) -> list[str]:
    """The entries as they would be written, with their groups."""
    return [
        f"{entry.section}: {entry.need}" if entry.section else str(entry.need) for entry in adoption.entries
    ]


class Adopting(unittest.TestCase):
    """From the table, and at random."""

    def test_cases(self) -> None:
        for title, lists, environment, code, entries, limits, preferred, left in CASES:
            with self.subTest(title):
                evidence = Evidence(
                    project=library_name("hivescale"),
                    listed=[listed(text) for text in lists],
                    present={name: present(name, *rest) for name, *rest in INSTALLED} if environment else {},
                    sites=[site(text) for text in code],
                    standard=frozenset({"os"}),
                )
                found = adopt(evidence)
                self.assertEqual(sorted(shown(found)), sorted(entries))
                self.assertEqual([str(limit.need) for limit in found.limits], limits)
                self.assertEqual(len(found.preferred), preferred, found.preferred)
                self.assertEqual(sorted(entry.what for entry in found.left), sorted(left))

    def test_at_odds(self) -> None:
        """Where a list and what is installed say different things, that is told."""
        lists = [
            "combframe==1.9",
            "nectarplot>=2",
            "queenmark",
            "!royaljelly<2",
            "skepio<0.4; os_name == 'nt'",
        ]
        evidence = Evidence(
            project=library_name("hivescale"),
            listed=[listed(text) for text in lists],
            present={name: present(name, *rest) for name, *rest in INSTALLED},
        )
        told = [conflict.cause[:2] for conflict in adopt(evidence).at_odds]
        self.assertEqual(
            told, [("other-version", ("combframe==1.9", "2.0")), ("not-installed", ("queenmark",))]
        )
        self.assertEqual(adopt(replace(evidence, present={})).at_odds, ())

    def test_declared_already(self) -> None:
        """What is declared stays as it is; its versions are preferred all the same."""
        names = frozenset(map(library_name, ["nectarplot", "skepio"]))
        everything = {name: present(name, *rest) for name, *rest in INSTALLED}
        found = adopt(Evidence(project=library_name("x"), present=everything, declared=names))
        self.assertFalse(names & {entry.need.name for entry in found.entries})
        self.assertEqual(found.preferred["combframe"], Version("2.0"))

    def test_everything_comes_back(self) -> None:
        """Whatever needs whatever, in circles too: the entries bring all of it, and none brings another."""
        dice = chance.dice(1611)
        for _ in range(300):
            names = [library_name(f"hive{number}") for number in range(dice.randint(1, 12))]
            everything = {
                name: present(name, "1.0", dice.sample(names, dice.randint(0, min(3, len(names)))), {})
                for name in names
            }
            found = adopt(Evidence(project=library_name("x"), present=everything))
            roots = [entry.need.name for entry in found.entries]
            reached = {root: self.reached(root, everything) for root in roots}
            self.assertEqual(set().union(*reached.values()), set(names))
            for root in roots:
                others = (reached[other] for other in roots if other != root and other not in reached[root])
                self.assertNotIn(root, set().union(*others))
            self.assertEqual(found.preferred.keys(), set(names))

    @staticmethod
    def reached(name: str, everything: dict) -> set[str]:
        found, waiting = {name}, [name]
        while waiting:
            new = everything[waiting.pop()].needs - found
            found |= new
            waiting += new
        return found
