"""The version after this one."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from packaging.version import Version

from rabbet.core.declaration.edit import STEPS, next_version

releases = st.lists(st.integers(0, 99), min_size=1, max_size=4).map(lambda one: ".".join(map(str, one)))
versions = st.builds(
    lambda release, behind: Version(release + behind),
    releases,
    st.sampled_from(["", "rc1", ".dev2", ".post1", "+local", "a1.post2.dev3"]),
)


class NextVersion(unittest.TestCase):
    """Each step leads to a later release, and none between skips one that the step could have led to."""

    @given(versions, st.sampled_from(STEPS))
    def test_is_the_nearest(self, version: Version, step: str) -> None:
        found, place = next_version(version, step), STEPS[::-1].index(step)
        self.assertGreater(found, version)
        self.assertFalse(found.is_prerelease or found.is_postrelease or found.local)
        self.assertFalse(any(found.release[place + 1 :]))
        numbers = list(found.release)
        if numbers[place]:
            numbers[place] -= 1
            self.assertLessEqual(Version(".".join(map(str, numbers))), Version(version.public))

    def test_cases(self) -> None:
        for before, step, after in (
            ("0.1.0", "next-patch", "0.1.1"),
            ("0.1.9", "next-minor", "0.2.0"),
            ("1.2", "next-patch", "1.2.1"),
            ("1.2", "next-minor", "1.3"),
            ("1.0.0rc1", "next-major", "1.0.0"),
            ("1.0.0", "next-major", "2.0.0"),
            ("2!1.0.post1", "next-minor", "2!1.1"),
        ):
            self.assertEqual(str(next_version(Version(before), step)), after)
