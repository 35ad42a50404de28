"""One library's candidates, and the releases that specifiers admit, as bit masks.

Releases are sorted, and a clause such as `>=2` holds for all of them from some place on, or up to some
place (what PEP 440 excludes next to the bound, such as pre-releases of it, lies next to the bound too). What
`==` admits lies together as well. So the places are found by bisection, with a few comparisons in place of
thousands.
"""

from bisect import bisect_left
from collections.abc import Iterable, Sequence
from functools import cached_property

from msgspec import Struct
from packaging.specifiers import Specifier, SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Candidate, Rejected

__all__ = ["Candidates", "ReleaseMasks"]


class Candidates(Struct, frozen=True, kw_only=True, dict=True):
    """The releases of one library that could be chosen, oldest first; `known`: some source lists it."""

    name: NormalizedName
    releases: tuple[Candidate, ...]
    rejected: tuple[Rejected, ...] = ()
    known: bool = True

    def place_of(self, version: Version) -> int:
        """Which of the releases has a version, counted from the oldest; their number, if none has it."""
        place = bisect_left(self.releases, version, key=lambda candidate: candidate.version)
        there = place < len(self.releases) and self.releases[place].version == version
        return place if there else len(self.releases)

    @cached_property
    def masks(self) -> "ReleaseMasks":
        """The sets of releases that specifiers admit, which all who ask for this library share."""
        return ReleaseMasks(self.releases)


class ReleaseMasks:
    """The releases of one library, oldest first; bit 0 of every mask is the oldest."""

    def __init__(self, releases: Sequence[Candidate]) -> None:
        self._versions = [release.version for release in releases]
        self._all = (1 << len(releases)) - 1
        self._yanked = _mask(release.yanked for release in releases)
        self._early = _mask(release.version.is_prerelease for release in releases)
        self._clauses: dict[Specifier, int] = {}

    def contained(self, specifiers: SpecifierSet) -> int:
        """The releases whose versions the specifiers contain, pre-releases and yanked ones among them."""
        mask = self._all
        for clause in specifiers:
            if clause not in self._clauses:
                self._clauses[clause] = self._clause(clause)
            mask &= self._clauses[clause]
        return mask

    def admitted(self, specifiers: SpecifierSet) -> int:
        """The releases that a requirement with these specifiers may be met by, looked at alone.

        Pre-releases count where a specifier names one or nothing else is contained (PEP 440), yanked ones
        where they are pinned exactly (PEP 592).
        """
        contained = self.contained(specifiers)
        offered = contained & ~self._yanked
        final = offered & ~self._early
        admitted = offered if specifiers.prereleases or not final else final
        return admitted | (contained & self._yanked if _pins_exactly(specifiers) else 0)

    def _clause(self, clause: Specifier) -> int:
        count = len(self._versions)
        if clause.operator in (">=", ">"):
            first = bisect_left(range(count), 1, key=lambda i: self._contains(clause, i))
            return self._all >> first << first
        if clause.operator in ("<=", "<"):
            end = bisect_left(range(count), 1, key=lambda i: not self._contains(clause, i))
            return (1 << end) - 1
        if clause.operator == "==":
            return self._equal(clause, clause.version)
        if clause.operator == "!=":
            return self._all & ~self._equal(Specifier(f"=={clause.version}"), clause.version)
        return _mask(self._contains(clause, position) for position in range(count))

    def _equal(self, clause: Specifier, version: str) -> int:
        """From the first release of a version, or with its beginning, to the last."""
        first = bisect_left(
            self._versions, Version(f"{version[:-2]}.dev0" if version[-2:] == ".*" else version)
        )
        places = range(first, len(self._versions))
        end = first + bisect_left(places, 1, key=lambda i: not self._contains(clause, i))
        return (1 << end) - 1 >> first << first

    def _contains(self, clause: Specifier, position: int) -> bool:
        return clause.contains(self._versions[position], prereleases=True)


def _mask(flags: Iterable[bool]) -> int:
    return sum(1 << position for position, flag in enumerate(flags) if flag)


def _pins_exactly(specifiers: SpecifierSet) -> bool:
    return any(
        clause.operator == "===" or (clause.operator == "==" and not clause.version.endswith(".*"))
        for clause in specifiers
    )
