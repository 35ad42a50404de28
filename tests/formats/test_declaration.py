"""Reading and changing declarations."""

import itertools
import re
import tomllib
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet

from rabbet.core.declaration.edit import Edit, EditResult
from rabbet.core.declaration.model import Declaration, Section
from rabbet.core.model.build import Told
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import apply

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "declarations.toml").read_text())

names = st.sampled_from(["combframe", "pollen-csv", "Hive.Wire", "skepio", "tallywax"])
versions = st.sampled_from(["", ">=2", "<4,>=2", "==1.*", "~=1.4"])
requirements = st.builds(lambda n, v: Need.parse(n + v), names, versions)
markers = st.sampled_from(["", '; os_name == "nt"', '; os_name != "nt"', '; python_version < "3.12"'])
comments = st.sampled_from(["", "  # why not", "\n    # a line of its own"])


@st.composite
def declarations(draw: st.DrawFn) -> str:
    """A declaration with comments in all places, in one line or in many."""
    chosen = draw(st.lists(requirements, unique_by=lambda r: r.name, max_size=4))
    if draw(st.booleans()):
        array = "[" + ", ".join(f'"{release}"' for release in chosen) + "]"
    else:
        array = "[\n" + "".join(f'    "{release}",{draw(comments)}\n' for release in chosen) + "]"
    name = f'name = "hivescale"{draw(comments)}'
    return f"# bees\n[project]\n{name}\ndependencies = {array}\n\n[tool.other]\nx = 1 # y\n"


def declared(text: str, section: Section | None = None) -> dict[str, Need]:
    """What the project, or a section, requires by that text."""
    declaration = read_declaration(text, folder_name="folder")
    found = declaration.needs if section is None else declaration.sections.get(section, ())
    return {need.name: need for need in found}


def put(text: str, requirement: Need, section: Section | None) -> tuple[str, EditResult]:
    """The text with a requirement declared, and what became of it."""
    after, changes = apply(
        text, [Edit(verb="declare", what="library", value=str(requirement), section=section)]
    )
    return after, changes[0]


_AXES = st.dictionaries(
    st.sampled_from(["python", "node", "skepio", "nectarplot[fast]"]),
    st.lists(st.sampled_from(["<2", ">=2", "~=3.1", "!=4", "==5.0"]), min_size=1, max_size=3, unique=True),
    min_size=1,
)


class Combinations(unittest.TestCase):
    """`[tool.rabbet.variants.every]`, against the same variants written in full."""

    @given(_AXES)
    def test_in_full(self, axes: dict[str, list[str]]) -> None:
        """One variant for each combination, by a name of its own that can stand in a file's."""
        lists = "".join(
            f"{'runtimes' if name in ('python', 'node') else 'libraries'}.'{name}' = {versions}\n"
            for name, versions in axes.items()
        )
        text = f"[tool.rabbet.variants.every]\n{lists}"
        found = read_declaration(text, folder_name="folder").variants
        in_full = ""
        for number, chosen in enumerate(itertools.product(*axes.values())):
            combination = dict(zip(axes, chosen, strict=True))
            needs = [f"{name}{combination[name]}" for name in combination if name not in ("python", "node")]
            in_full += f"[tool.rabbet.variants.v{number}]\nrequirements = {needs}\n"
            for language in sorted(combination.keys() & {"python", "node"}):
                in_full += f"runtimes.{language} = '{combination[language]}'\n"
        expected = read_declaration(in_full, folder_name="folder").variants
        self.assertCountEqual(map(repr, found.values()), map(repr, expected.values()))
        self.assertTrue(all(re.fullmatch(r"\w[\w-]{0,99}", name) for name in found))


class Changing(unittest.TestCase):
    """Comments, order and everything that was not named stay."""

    def test_table(self) -> None:
        """Each change in `data/declarations.toml`: text before, what is done, text after."""
        for case in TABLE["change"]:
            with self.subTest(case["title"]):
                kinds = [kind for kind in ("group", "extra", "variant") if kind in case]
                section = Section(kinds[0], case[kinds[0]]) if kinds else None
                edits = [
                    replace(
                        Edit.given(verb, what, value, section),
                        section=section,
                        exactly=case.get("exactly", False),
                    )
                    for verb in ("retract", "declare")
                    for what, values in case.get(verb, {}).items()
                    for value in values
                ]
                text, _ = apply(case["before"], edits)
                self.assertEqual(text, case["after"])

    @given(
        declarations(),
        requirements,
        st.sampled_from([None, Section("group", "checks"), Section("extra", "plots")]),
    )
    def test_put(self, text: str, requirement: Need, section: Section | None) -> None:
        """What was given is there, all else is as before, and giving it again changes nothing."""
        after, change = put(text, requirement, section)
        known = declared(text, section)
        expected = requirement if requirement.specifier else known.get(requirement.name, requirement)
        self.assertEqual(declared(after, section), {**known, requirement.name: expected})
        self.assertEqual(put(after, requirement, section)[0], after)
        self.assertEqual(change.happened, after != text)
        self.assertEqual(re.findall(r"#.*", after), re.findall(r"#.*", text))

    @given(declarations(), requirements)
    def test_take_undoes_put(self, text: str, requirement: Need) -> None:
        """Taking out what was just added gives the same declaration and keeps all comments."""
        if requirement.name in declared(text):
            return
        after, _ = put(text, requirement, None)
        back, changes = apply(after, [Edit(verb="retract", what="library", value=requirement.name.upper())])
        self.assertEqual(declared(back), declared(text))
        self.assertEqual(len(changes), 1)
        self.assertEqual(re.findall(r"#.*", back), re.findall(r"#.*", text))

    @given(st.lists(st.tuples(names, versions, markers), max_size=5))
    def test_many_at_once(self, given: list[tuple[str, str, str]]) -> None:
        """Whatever is declared at once is what is read back: under each marker, all that was given of it."""
        edits = [
            Edit(verb="declare", what="library", value=name + bounds + marker)
            for name, bounds, marker in given
        ]
        text, _ = apply("[project]\ndependencies = []\n", edits)
        wanted: dict[tuple[str, str], set[str]] = {}
        for name, bounds, marker in given:
            counting = wanted.setdefault((library_name(name), marker), set())
            counting |= {str(specifier) for specifier in SpecifierSet(bounds)}
        read = read_declaration(text, folder_name="x").needs
        found = {
            (need.name, f"; {need.marker}" if need.marker else ""): set(map(str, need.specifier))
            for need in read
        }
        self.assertEqual(len(found), len(read))
        self.assertEqual(found, wanted)

    def test_sections(self) -> None:
        """What groups, extras and variants hold, with what they include of each other put in place."""
        for case in TABLE["sections"]:
            with self.subTest(case["title"]):
                declaration = read_declaration(case["text"], folder_name="x")
                found = {str(section): needs for section, needs in declaration.sections.items()}
                found |= {f"variant {name}": variant.needs for name, variant in declaration.variants.items()}
                found["project"] = declaration.needs
                texts = {name: [str(need) for need in needs] for name, needs in found.items()}
                self.assertEqual(texts, {"project": [], **case["holds"]})

    def test_every_field(self) -> None:
        """Each bears on the fingerprint, or is among those that bear on no lock."""
        table = TABLE["fields"]
        self.assertEqual({*table["changed"]}, {*Declaration.__struct_fields__})
        told = Told(**{**table["told"], "requires": (), "extras": ()})
        for name, case in table["changed"].items():
            texts = [case.get("base", ""), case.get("more", "")]
            before, after = (f"{text}\n{table['base']}" for text in texts)
            after = after.replace(case.get("from", ""), case["to"]) if "to" in case else after
            one = read_declaration(after if name == "told" else before, folder_name="x")
            other = read_declaration(after, folder_name="x", told=told if case.get("told") else None)
            with self.subTest(name):
                self.assertNotEqual(getattr(one, name), getattr(other, name))
                same = one.fingerprint() == other.fingerprint()
                self.assertEqual(same, name in table["free"])

    def test_fingerprint(self) -> None:
        """The order and comments do not bear on it; requirements, groups, runtime and sources do."""
        texts = TABLE["fingerprint"]
        base = read_declaration(texts["base"], folder_name="x").fingerprint()
        for text in texts["same"]:
            self.assertEqual(read_declaration(text, folder_name="x").fingerprint(), base, text)
        others = {read_declaration(text, folder_name="x").fingerprint() for text in texts["different"]}
        self.assertEqual(len(others | {base}), len(texts["different"]) + 1)
