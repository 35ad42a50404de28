"""Reading and changing declarations."""

import re
import tomllib
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st
from packaging.requirements import Requirement

from rabbet.formats.pyproject import read_declaration
from rabbet.formats.pyproject_edit import put_requirement, put_runtime, take_requirement

TABLE = tomllib.loads((Path(__file__).parent.parent / "data" / "declarations.toml").read_text())

names = st.sampled_from(["combframe", "pollen-csv", "Hive.Wire", "skepio", "tallywax"])
versions = st.sampled_from(["", ">=2", "<4,>=2", "==1.*", "~=1.4"])
requirements = st.builds(lambda n, v: Requirement(n + v), names, versions)
comments = st.sampled_from(["", "  # why not", "\n    # a line of its own"])


@st.composite
def declarations(draw: st.DrawFn) -> str:
    """A declaration with comments in all places, in one line or in many."""
    chosen = draw(st.lists(requirements, unique_by=lambda r: r.name, max_size=4))
    if draw(st.booleans()):
        array = "[" + ", ".join(f'"{one}"' for one in chosen) + "]"
    else:
        array = "[\n" + "".join(f'    "{one}",{draw(comments)}\n' for one in chosen) + "]"
    name = f'name = "hivescale"{draw(comments)}'
    return f"# bees\n[project]\n{name}\ndependencies = {array}\n\n[tool.other]\nx = 1 # y\n"


def declared(text: str, group: str | None = None) -> dict[str, Requirement]:
    """What the project, or a group, requires by that text."""
    declaration = read_declaration(text, folder_name="folder")
    found = declaration.requirements if group is None else declaration.groups.get(group, ())
    return {one.name: one for one in found}


class Changing(unittest.TestCase):
    """Comments, order and everything that was not named stay."""

    def test_table(self) -> None:
        """Each change in `data/declarations.toml`: text before, what is done, text after."""
        for case in TABLE["change"]:
            with self.subTest(case["title"]):
                text = case["before"]
                if "put" in case:
                    text, _ = put_requirement(text, Requirement(case["put"]), group=case.get("group"))
                if "take" in case:
                    text, _ = take_requirement(text, case["take"], group=case.get("group"))
                if "runtime" in case:
                    text, _ = put_runtime(text, case["runtime"])
                self.assertEqual(text, case["after"])

    @given(declarations(), requirements, st.sampled_from([None, "checks"]))
    def test_put(self, text: str, requirement: Requirement, group: str | None) -> None:
        """What was put is there, all else is as before, and putting it again changes nothing."""
        after, change = put_requirement(text, requirement, group=group)
        expected = {**declared(text, group), requirement.name: requirement}
        self.assertEqual(declared(after, group), expected)
        self.assertEqual(put_requirement(after, requirement, group=group)[0], after)
        self.assertEqual(change.happened, after != text)
        self.assertEqual(re.findall(r"#.*", after), re.findall(r"#.*", text))

    @given(declarations(), requirements)
    def test_take_undoes_put(self, text: str, requirement: Requirement) -> None:
        """Taking out what was just added gives the same declaration and keeps all comments."""
        if requirement.name in declared(text):
            return
        after, _ = put_requirement(text, requirement, group=None)
        back, changes = take_requirement(after, requirement.name.upper(), group=None)
        self.assertEqual(declared(back), declared(text))
        self.assertEqual(len(changes), 1)
        self.assertEqual(re.findall(r"#.*", back), re.findall(r"#.*", text))

    def test_fingerprint(self) -> None:
        """The order and comments do not bear on it; requirements, groups, runtime and sources do."""
        texts = TABLE["fingerprint"]
        base = read_declaration(texts["base"], folder_name="x").fingerprint()
        for text in texts["same"]:
            self.assertEqual(read_declaration(text, folder_name="x").fingerprint(), base, text)
        others = {read_declaration(text, folder_name="x").fingerprint() for text in texts["different"]}
        self.assertEqual(len(others | {base}), len(texts["different"]) + 1)
