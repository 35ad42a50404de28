"""Who asks for what in a lock: ways, sections, sizes, holders, corrections; held against slow searches."""

import unittest
from collections.abc import Mapping
from itertools import pairwise, permutations

from hypothesis import given
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.declaration.corrections import corrected, unused_corrections
from rabbet.core.graph.graph import (
    Graph,
    asked_for_by,
    build_graph,
    own_size,
    paths_to,
    sections_of,
    size_with_needs,
    tree,
)
from rabbet.core.graph.held_back import held_back
from rabbet.core.model.lock import Lock, LockedLibrary, LockedWheel
from rabbet.core.model.release import Metadata, Rejected
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.needs.walk import parts_reached
from rabbet.core.solve.problem.candidates import Candidates
from rabbet.formats.project.pyproject import read_declaration
from tests.support.catalogue import TARGET, DictProvider

HIVE = {
    "nectarplot": ["combframe[fast]>=2", "skepio; python_version < '3'"],
    "combframe": ["tallywax; extra == 'fast'", "hivewire<3"],
    "mitewatch": ["combframe", "skepio>=1"],
    "skepio": ["hivewire"],
    "tallywax": [],
    "hivewire": [],
}
DECLARED = """
[project]
name = "hives"
dependencies = ["nectarplot", "broodcount; os_name == 'nt'"]
[dependency-groups]
checks = ["mitewatch"]
docs = ["skepio"]
"""


def graph_of(needs: Mapping[str, list[str]], declared: str = DECLARED) -> Graph:
    """The graph of a lock whose libraries need these, each of version 2.0 and 10 bytes."""
    parsed = {library_name(name): list(map(Need.parse, texts)) for name, texts in needs.items()}
    libraries = tuple(
        LockedLibrary(
            name=name,
            version=Version("2.0"),
            artifacts=(LockedWheel(filename=f"{name}-2.0-py3-none-any.whl", sha256="0" * 64, size=10),),
            dependencies=tuple(sorted({ask.name for ask in asked})),
        )
        for name, asked in parsed.items()
    )
    lock = Lock(requires_python=None, environments=(), groups=(), libraries=libraries, fingerprint=None)
    declaration = read_declaration(declared, folder_name="hives")
    return build_graph(declaration, lock, TARGET, lambda library: parsed[library.name])


def ways(graph: Graph, name: str) -> list[str]:
    """Each way to a library, such as `hives > nectarplot > combframe[fast]>=2`."""
    return [
        " > ".join([graph.who(path[0]).replace(" 2.0", ""), *(str(ask.need) for ask in path)])
        for path in paths_to(graph, library_name(name))
    ]


class Ways(unittest.TestCase):
    """From the declaration to a library."""

    def test_table(self) -> None:
        graph = graph_of(HIVE)
        for name, expected in {
            "tallywax": ['hives > nectarplot > combframe[fast]>=2 > tallywax; extra == "fast"'],
            "combframe": [
                "hives > nectarplot > combframe[fast]>=2",
                "hives, group checks > mitewatch > combframe",
            ],
            "hivewire": [
                "hives > nectarplot > combframe[fast]>=2 > hivewire<3",
                "hives, group docs > skepio > hivewire",
                "hives, group checks > mitewatch > combframe > hivewire<3",
                "hives, group checks > mitewatch > skepio>=1 > hivewire",
            ],
            "broodcount": [],
        }.items():
            with self.subTest(name):
                self.assertEqual(sorted(ways(graph, name)), sorted(expected))
        sections = {
            name: [str(section) for section in sections_of(graph, library_name(name))] for name in HIVE
        }
        self.assertEqual(sections["tallywax"], ["None"])
        self.assertEqual(sections["skepio"], ["group checks", "group docs"])
        self.assertEqual(sections["hivewire"], ["None", "group checks", "group docs"])

    def test_tree(self) -> None:
        """Each library's needs stand once; what has none is never called seen."""
        lines = [
            "  " * branch.depth + str(branch.ask.name if branch.ask else branch.section) + " …" * branch.seen
            for branch in tree(graph_of(HIVE))
        ]
        expected = """nectarplot
  combframe
    hivewire
    tallywax
group checks
  mitewatch
    combframe …
    skepio
      hivewire
group docs
  skepio …"""
        self.assertEqual("\n".join(lines), expected)

    def test_sizes(self) -> None:
        graph = graph_of({**HIVE, "tallywax": ["combframe"]})
        for name, own, whole in (
            ("nectarplot", 10, 40),
            ("skepio", 10, 20),
            ("tallywax", 10, 30),
            ("hivewire", 10, 10),
            ("broodcount", 0, 0),
        ):
            with self.subTest(name):
                self.assertEqual(own_size(graph, library_name(name)), own)
                self.assertEqual(size_with_needs(graph, library_name(name)), whole)

    def test_asked_for_by(self) -> None:
        """The declaration comes before sections, these before libraries."""
        graph = graph_of(HIVE)
        declaration = read_declaration(
            DECLARED.replace('docs = ["skepio"]', 'docs = ["nectarplot"]'), folder_name="x"
        )
        told = asked_for_by(tuple(graph.libraries.values()), declaration)
        self.assertEqual(told["nectarplot"], ["hives"])
        self.assertEqual(told["mitewatch"], ["hives, group checks"])
        self.assertEqual(told["skepio"], ["nectarplot", "mitewatch"])
        self.assertEqual(told["tallywax"], ["combframe"])

    @given(
        st.dictionaries(
            st.sampled_from("abcde"), st.lists(st.sampled_from("abcde"), max_size=3, unique=True), min_size=1
        ),
        st.lists(st.sampled_from("abcde"), min_size=1, max_size=2, unique=True),
    )
    def test_as_all_sequences(self, needs: dict[str, list[str]], roots: list[str]) -> None:
        """The shortest way that is told is as short as any; reached is what some sequence reaches."""
        whole = {name: needs.get(name, []) for name in "abcde"}
        graph = graph_of(whole, f"[project]\nname = 'x'\ndependencies = {roots}\n")
        sequences = [
            permutation
            for length in range(1, 6)
            for permutation in permutations("abcde", length)
            if permutation[0] in roots and all(b in whole[a] for a, b in pairwise(permutation))
        ]
        reached = parts_reached(map(Need.parse, roots), lambda part: map(Need.parse, whole[part[0]]))
        self.assertEqual({name for name, _ in reached}, {sequence[-1] for sequence in sequences})
        for name in "abcde":
            lengths = [len(sequence) for sequence in sequences if sequence[-1] == name]
            found = paths_to(graph, library_name(name))
            self.assertEqual(min(map(len, found), default=0), min(lengths, default=0))
            self.assertEqual(bool(sections_of(graph, library_name(name))), bool(lengths))
            for path in found:
                steps = tuple(ask.name for ask in path)
                self.assertIn(steps, [*sequences, *((*sequence, name) for sequence in sequences)])


class Holding(unittest.TestCase):
    """What keeps a library from its newest release."""

    def test_table(self) -> None:
        graph = graph_of(HIVE)
        offered = ["1.0", "2.0", "3.0", "3.1!", "4.0rc1"]
        for name, versions, limit, expected in (
            ("hivewire", offered, "", ("3.0", ["combframe 2.0 needs hivewire<3"])),
            ("hivewire", offered[:2], "", None),
            ("hivewire", ["1.0"], "", None),
            ("skepio", offered, "skepio<3", ("3.0", ["hives sets the limit skepio<3"])),
            ("skepio", offered, "skepio<9", ("3.0", ["for a reason of its own"])),
            ("skepio", ["2.0", "3.1!"], "", None),
            ("skepio", ["2.0", "4.0rc1"], "", None),
            ("skepio", ["4.0rc1"], "", ("4.0rc1", ["for a reason of its own"])),
            ("skepio", ["4.0rc1"], "skepio<4", ("4.0rc1", ["hives sets the limit skepio<4"])),
            ("hivewire", ["3.0rc1"], "", ("3.0rc1", ["combframe 2.0 needs hivewire<3"])),
        ):
            with self.subTest(name, versions=versions, limit=limit):
                found = held_back(
                    graph,
                    library_name(name),
                    DictProvider({name: {version: [] for version in versions}}).candidates(
                        library_name(name)
                    ),
                    [Need.parse(limit)] if limit else [],
                    lambda version: ["for a reason of its own"] if version > Version("2.0") else [],
                )
                told = (str(found.newest), list(found.by)) if found else None
                self.assertEqual(told, expected)

    def test_out_of_reach(self) -> None:
        """Newer releases that can't be used here are told, with the baseline that is in the way."""
        rejected = (
            Rejected(version="2.5", reason="broken"),
            Rejected(version="3.0", reason="needs a newer system", baseline="glibc=2.40"),
            Rejected(version="1.0", reason="too old"),
        )
        known = DictProvider({"skepio": {"2.0": []}}).candidates(library_name("skepio"))
        candidates = Candidates(name=known.name, releases=known.releases, rejected=rejected)
        found = held_back(graph_of(HIVE), library_name("skepio"), candidates, (), lambda _: ())
        self.assertEqual(found.out_of_reach, ("2.5: broken", "3.0: needs a newer system"))
        self.assertEqual((found.baseline, found.newest), ("glibc=2.40", Version("2.0")))


class Corrections(unittest.TestCase):
    """What the declaration mends in metadata."""

    def test_table(self) -> None:
        for rule, kept, needs, unread, idle in (
            ('"combframe<3" = { drop = ["skepio"] }', "", ["hivewire"], ["tallywax>>1"], False),
            ('"combframe<3" = { drop = ["tallywax"] }', "", ["skepio", "hivewire"], [], False),
            (
                '"combframe<3" = { add = ["queenmark>=1"] }',
                "",
                ["skepio", "hivewire", "queenmark>=1"],
                ["tallywax>>1"],
                False,
            ),
            ('"combframe>3" = { drop = ["skepio"] }', "", ["skepio", "hivewire"], ["tallywax>>1"], None),
            ('"skepio<3" = { drop = ["hivewire"] }', "", ["skepio", "hivewire"], ["tallywax>>1"], None),
            ('"combframe<3" = { drop = ["queenmark"] }', "", ["skepio", "hivewire"], ["tallywax>>1"], True),
            (
                '"combframe<3" = { drop = ["queenmark"] }',
                "without = ['skepio']",
                ["hivewire"],
                ["tallywax>>1"],
                True,
            ),
        ):
            text = f"[project]\nname = 'hives'\n[tool.rabbet]\n{kept}\n[tool.rabbet.corrections]\n{rule}\n"
            declaration = read_declaration(text, folder_name="x")
            metadata = Metadata(
                name=library_name("combframe"),
                version=Version("2.0"),
                requires_python=SpecifierSet(),
                needs=(Need.parse("skepio"), Need.parse("hivewire")),
                extras=frozenset(),
                unread=("tallywax>>1",),
            )
            with self.subTest(rule, kept=kept):
                found = corrected(metadata, declaration)
                self.assertEqual([str(need) for need in found.needs], needs)
                self.assertEqual(list(found.unread), unread)
                self.assertEqual(len(list(unused_corrections(declaration, [metadata]))), int(idle is True))


class Near(unittest.TestCase):
    """Names that were mistyped."""

    def test_table(self) -> None:
        known = ["combframe", "combframes", "combwright", "hivewire", "skepio", "nectarplot"]
        for name, expected in (
            ("combfrmae", ["combframe", "combframes"]),
            ("combframe", ["combframes"]),
            ("skepoi", ["skepio"]),
            ("hyvewire", ["hivewire"]),
            ("nectar", []),
            ("zzz", []),
        ):
            with self.subTest(name):
                self.assertEqual(near_names(name, known), expected)
        self.assertEqual(len(near_names("aaaa", [f"aaa{letter}" for letter in "bcdefg"])), 3)
