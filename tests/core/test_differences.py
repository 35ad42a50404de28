"""Which change of the declaration brought a difference about, held against a slow search."""

import unittest
from collections.abc import Mapping

from hypothesis import given
from hypothesis import strategies as st
from packaging.version import Version

from rabbet.core.lock.differences import DeclaredChange, differences
from rabbet.core.model.lock import Lock, LockedLibrary
from rabbet.core.needs.names import library_name
from rabbet.formats.project.pyproject import read_declaration

names = st.sampled_from([library_name(letter) for letter in "abcdefgh"])
graphs = st.dictionaries(names, st.tuples(st.sampled_from(["1", "2"]), st.frozensets(names, max_size=3)))
Graph = Mapping[str, tuple[str, frozenset[str]]]


def lock(graph: Graph) -> Lock:
    """A lock of these versions and dependencies."""
    return Lock(
        requires_python=None,
        environments=(),
        groups=(),
        fingerprint=None,
        libraries=tuple(
            LockedLibrary(
                name=library_name(name), version=Version(version), dependencies=tuple(sorted(needed))
            )
            for name, (version, needed) in sorted(graph.items())
        ),
    )


def nearest(name: str, graph: Graph, others: set[str]) -> str | None:
    """Of those that need a library, level by level, the first one that is among the others."""
    seen, level = {name}, {name}
    while level:
        level = {name for name, (_, needed) in graph.items() if needed & level} - seen
        seen |= level
        if level & others:
            return min(level & others)
    return None


def expected(name: str, graph: Graph, declared: set[str], differing: set[str]) -> str:
    """The cause that is told."""
    if name in declared:
        return f"declared: {name}>=2"
    if requirer := nearest(name, graph, declared):
        return f"needed by {requirer} (declared: {requirer}>=2)"
    requirer = nearest(name, graph, differing)
    return f"needed by {requirer}" if requirer else "chosen again"


class Causes(unittest.TestCase):
    """Of libraries that differ."""

    @given(graphs, graphs, st.frozensets(names, max_size=3))
    def test_is_the_nearest(self, old: Graph, new: Graph, declared: frozenset[str]) -> None:
        """The nearest declared one above, else the nearest one that differs too; circles end."""
        version = {name: (old.get(name, ("",))[0], new.get(name, ("",))[0]) for name in {*old, *new}}
        differing = {name for name, (before, after) in version.items() if before != after}
        found = differences(
            lock(old),
            lock(new),
            tuple(DeclaredChange(name=name, before="", after=f"{name}>=2") for name in sorted(declared)),
            lambda _: (),
            read_declaration("", folder_name="combwatch"),
        )
        self.assertEqual([difference.name for difference in found], sorted(differing))
        for difference in found:
            graph = new if difference.name in new else old
            wanted = expected(difference.name, graph, set(declared), differing)
            self.assertTrue(
                difference.cause.startswith(wanted), f"{difference.name}: {difference.cause}, not {wanted}"
            )
