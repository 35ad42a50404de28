"""Requirements in other spellings: each from the table, and at random against what they must admit."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from packaging.utils import canonicalize_name
from packaging.version import Version

from rabbet.core.needs.misspelled import corrected
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need

# what people type → what it means (`None`: nobody can tell)
SPELLINGS = {
    "nectarplot=2.0": "nectarplot==2.0",
    "nectarplot 2.0": "nectarplot==2.0",
    "nectarplot@2.0": "nectarplot==2.0",
    "nectarplot: v2.0": "nectarplot==2.0",
    "nectarplot=>3": "nectarplot>=3",
    "nectarplot > = 3": "nectarplot>=3",
    "nectarplot>=1,=<2": "nectarplot>=1,<=2",
    "nectarplot^2": "nectarplot>=2,<3",
    "nectarplot ^0.3.1": "nectarplot>=0.3.1,<0.4",
    "nectarplot^0.0.3": "nectarplot>=0.0.3,<0.0.4",
    "nectarplot~1.4.2": "nectarplot>=1.4.2,<1.5",
    "nectarplot~2": "nectarplot>=2,<3",
    "nectarplot~>2.1": "nectarplot~=2.1",
    "nectarplot[fast]=2": "nectarplot[fast]==2",
    "nectarplot=2.*": "nectarplot==2.*",
    "nectarplot=2; os_name == 'nt'": "nectarplot==2; os_name == 'nt'",
    "nectarplot==": "nectarplot",
    "nectarplot>=2,": "nectarplot>=2",
    "“nectarplot≥2”": "nectarplot>=2",
    "^2": None,
    "2.0": None,
    "nectar plot": None,
    "nectarplot==late": None,
    "nectarplot>2 <3": None,
    "nectarplot>=2 2": None,
    "./nectarplot": None,
    "..\\nectarplot": None,
    "": None,
    "=" * 100_000: None,
    "nectarplot" + "^2" * 90: None,
}

NUMBERS = st.lists(st.integers(0, 9), min_size=1, max_size=4)


class Misspelled(unittest.TestCase):
    """One by one, and by what is admitted."""

    def test_spellings(self) -> None:
        for text, meant in SPELLINGS.items():
            with self.subTest(text[:60]):
                self.assertEqual(corrected(text), meant)

    @given(
        st.lists(st.integers(0, 9), min_size=1, max_size=4),
        st.lists(st.integers(0, 9), min_size=1, max_size=4),
    )
    def test_compatible(self, bound: list[int], other: list[int]) -> None:
        """`^` admits what is not below, and has the same numbers up to the first that is not 0."""
        meant = corrected(f"skepio^{'.'.join(map(str, bound))}")
        assert meant is not None
        place = next((place for place, number in enumerate(bound) if number), len(bound) - 1)
        padded = [*other, 0, 0, 0, 0]
        same = padded[: place + 1] == bound[: place + 1]
        version = Version(".".join(map(str, other)))
        expected = same and version >= Version(".".join(map(str, bound)))
        self.assertEqual(Need.parse(meant).specifier.contains(version), expected)

    @given(st.text(max_size=40))
    def test_anything(self, text: str) -> None:
        """Whatever comes, the answer is none, or a requirement that can be read and is another one."""
        meant = corrected(text)
        if meant is not None:
            Need.parse(meant)
            self.assertNotEqual(meant, text)

    @given(st.text(alphabet="aZ0-_.ß İ", max_size=12))
    def test_names(self, text: str) -> None:
        """A library's name has the form that the packaging library gives it."""
        self.assertEqual(library_name(text), canonicalize_name(text))
