"""How far a library's releases reach with which a command passes, by bisection.

A search is a generator, which yields the release to try and is sent what that did. So the searches of several
libraries can go on side by side, and their releases be tried at once.
"""

from collections.abc import Generator, Sequence

from msgspec import Struct
from packaging.version import Version

__all__ = ["Edge", "EdgeSearch", "edge_of"]


class Edge(Struct, frozen=True, kw_only=True):
    """The last release that passes, and the first one beyond it that fails.

    Without a `passing` one the known release is the last; without a `failing` one all releases pass that have
    a solution.
    """

    passing: Version | None = None
    failing: Version | None = None


EdgeSearch = Generator[Version, "bool | None", Edge]
"""Yields the release to try; is sent whether the command passes, or `None` where there is no solution."""


def edge_of(releases: Sequence[Version], first: Version | None = None) -> EdgeSearch:
    """Search among releases that lie behind one that is known to pass, the nearest of them first.

    The `first` release is tried before others, then the last one, then halves. Where each release beyond a
    failing one fails too, the edge is the only one; else it is one at which that changes. Takes 2 + log2(n)
    tries of n releases that have a solution.
    """
    left = list(releases)
    good, bad = -1, len(left)  # places of the last passing one, and of the first failing one
    wishes = [release for release in (first, left[-1] if left else None) if release is not None]
    while bad - good > 1:
        wished = next((left.index(wish) for wish in wishes if wish in left[good + 1 : bad]), None)
        place = (good + bad) // 2 if wished is None else wished
        wishes = [wish for wish in wishes if wish != left[place]]
        passes = yield left[place]
        if passes is None:
            del left[place]
            bad -= 1
            if wished is not None and place == bad and place:
                wishes.insert(0, left[place - 1])  # the last one of those that have a solution
        elif passes:
            good = place
        else:
            bad = place
    return Edge(passing=left[good] if good >= 0 else None, failing=left[bad] if bad < len(left) else None)
