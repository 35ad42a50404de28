"""Which revision of the lock an environment fits best."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rabbet.core.drift.since import LockRevision, changes_of, differing, nearest_revision, newest_first
from rabbet.core.needs.names import library_name
from rabbet.formats.lock_text import read_locked_versions

names = st.sampled_from(["combframe", "skepio", "tallywax", "hivewire"]).map(library_name)
states = st.dictionaries(names, st.sampled_from(["1.0", "2.0", "3.0"]))
histories = st.lists(st.tuples(states, st.frozensets(names)), max_size=6)


def revisions(history: list) -> list[LockRevision]:
    """Each from its versions, and from the libraries that are conditional if it has them."""
    return [
        LockRevision(
            commit=str(number),
            when=number,
            versions={name: frozenset([version]) for name, version in state.items()},
            conditional=conditional & state.keys(),
        )
        for number, (state, conditional) in enumerate(history)
    ]


class Since(unittest.TestCase):
    """By what differs."""

    @given(states, histories, st.integers(0, 5))
    def test_is_the_best(self, installed: dict, history: list, now: int) -> None:
        """No revision differs less, no newer one as little; without a better one than today there is none."""
        all_of_them = revisions(history)
        counts = [len(differing(installed, revision)) for revision in all_of_them]
        found = nearest_revision(installed, all_of_them, now)
        if found is None:
            self.assertTrue(all(number >= now for number in counts))
        else:
            self.assertEqual(len(found.differing), min(counts))
            self.assertLess(len(found.differing), now)
            self.assertEqual(found.newer, counts.index(min(counts)))

    @given(histories)
    def test_changes(self, history: list) -> None:
        """From the oldest state on, the changes lead to the newest; a state without any is left out."""
        states = revisions(history)
        found = list(changes_of(states))
        held = dict(states[-1].versions) if states else {}
        for changed in reversed(found):
            self.assertTrue(changed.changes)
            for change in changed.changes:
                self.assertEqual(newest_first(held.get(change.name, ())), change.before)
                held[change.name] = frozenset(change.after)
        self.assertEqual(
            {name: each for name, each in held.items() if each}, dict(states[0].versions) if states else {}
        )

    def test_versions_in_a_text(self) -> None:
        """Names and versions of entries, not those of their files, of dependencies or of builds."""
        found = read_locked_versions(
            'lock-version = "1.0"\n[[packages]]\nname = "Comb.Frame"\nversion = "2.0"\nmarker = "x"\n'
            'wheels = [\n    { name = "combframe-2.0.whl" },\n]\n[[packages]]\nname = "skepio"\n'
            "version = '1.0'\n[[packages.wheels]]\nname = \"skepio-1.0.whl\"\n[[packages]]\n"
            'name = "local"\n[tool.rabbet]\n[[tool.rabbet.builds.packages]]\nname = "wax"\nversion = "1"\n'
        )
        self.assertEqual(found.versions, {"comb-frame": {"2.0"}, "skepio": {"1.0"}})
        self.assertEqual(found.conditional, {"comb-frame"})
