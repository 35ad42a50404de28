"""Which members of an archive lie inside the folder it is unpacked into."""

import ntpath
import posixpath
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rabbet.archives.places import is_inside, lands_outside

INSIDE = ["a", "a/b.py", "./a", "a/./b", "a..b/..c", "perl::man/a:b", "ab:c"]
OUTSIDE = ["/a", "../a", "a/../../b", "a/..", "c:/a", "c:a", "a\\b", "\\\\host\\share", "a\0b", "a" * 9000]


class Places(unittest.TestCase):
    """Held against where the libraries of both systems say that they end."""

    def test_table(self) -> None:
        self.assertEqual([place for place in INSIDE if lands_outside(place)], [])
        self.assertEqual([place for place in OUTSIDE if not lands_outside(place)], [])
        self.assertEqual(
            [place for place in INSIDE if is_inside(place)], [INSIDE[index] for index in (0, 1, 4, 5, 6)]
        )

    @given(st.text(st.sampled_from("a./:\\c"), max_size=12))
    def test_any(self, place: str) -> None:
        """What is taken ends below the folder, on POSIX and on Windows."""
        if not lands_outside(place):
            for paths, root in ((posixpath, "/root"), (ntpath, "D:\\root")):
                end = paths.normpath(paths.join(root, place))
                self.assertTrue(end == root or end.startswith(root + paths.sep), (place, end))
