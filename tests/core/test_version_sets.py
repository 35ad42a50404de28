"""Masks found by bisection, against the standard library of specifiers, release by release."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from packaging.specifiers import SpecifierSet
from packaging.version import Version

from rabbet.core.model.release import Candidate, ListedFile
from rabbet.core.needs.names import library_name
from rabbet.core.solve.problem.candidates import ReleaseMasks

TEXTS = [
    "0.9", "1", "1.0.dev1", "1.0a1", "1.0rc1", "1.0", "1.0+local.1", "1.0.post1", "1.0.1", "1.1.dev3",
    "1.1b2", "1.1", "1.1.post2.dev1", "1.10", "2.0a0", "2.0", "2!0.1", "2!1.0rc2",
]  # fmt: skip
OPERATORS = [">=", "<=", ">", "<", "==", "!=", "~=", "==="]


def candidate(version: Version, *, yanked: bool) -> Candidate:
    """A release with one wheel."""
    wheel = ListedFile(
        filename="",
        name=library_name("combframe"),
        version=version,
        build=(0, ""),
        tags=frozenset(),
        location="",
        source="",
        yanked="" if yanked else None,
    )
    return Candidate(name=wheel.name, version=version, source="", offered=(wheel,))


@st.composite
def specifiers(draw: st.DrawFn) -> SpecifierSet:
    """One to three clauses; those that the standard forbids are left out."""
    clauses = []
    for _ in range(draw(st.integers(1, 3))):
        operator, text = draw(st.sampled_from(OPERATORS)), draw(st.sampled_from(TEXTS))
        if operator not in ("==", "!=", "==="):
            text = text.partition("+")[0]
        if operator == "~=" and "." not in text.partition("!")[2] + text:
            text += ".0"
        if operator in ("==", "!=") and draw(st.booleans()) and text.replace(".", "").isdigit():
            text += ".*"
        clauses.append(operator + text)
    return SpecifierSet(",".join(clauses))


releases = st.lists(st.sampled_from(TEXTS), unique_by=Version, min_size=1).map(
    lambda texts: sorted(Version(text) for text in texts)
)


class Masks(unittest.TestCase):
    """`ReleaseMasks` says the same as asking about each release."""

    @given(releases, specifiers(), st.integers(0, 2**18))
    def test_as_the_standard_says(self, versions: list[Version], wanted: SpecifierSet, dice: int) -> None:
        yanked = [bool(dice >> position & 1) for position in range(len(versions))]
        candidates = [candidate(v, yanked=y) for v, y in zip(versions, yanked, strict=True)]
        masks = ReleaseMasks(candidates)
        contained = [v for i, v in enumerate(versions) if masks.contained(wanted) >> i & 1]
        self.assertEqual(contained, list(wanted.filter(versions, prereleases=True)))
        admitted = {v for i, v in enumerate(versions) if masks.admitted(wanted) >> i & 1}
        offered = set(wanted.filter([v for v, y in zip(versions, yanked, strict=True) if not y]))
        gone = {v for v, y in zip(versions, yanked, strict=True) if y}
        pinned = any(c.operator in ("==", "===") and not c.version.endswith("*") for c in wanted)
        self.assertEqual(admitted, offered | (gone & set(contained) if pinned else set()))
