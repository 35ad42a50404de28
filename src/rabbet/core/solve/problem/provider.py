"""The solver's source of candidates and metadata, and its order of preference among releases."""

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Protocol

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Candidate, Metadata, Rejected
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates

__all__ = ["Policy", "Provider"]


class Provider(Protocol):
    """Gives candidates and their needs. The same question always gets the same answer."""

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target, oldest first."""

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """The needs of one release, or why they can't be known."""

    def expect(self, needs: Iterable[Need]) -> None:
        """A hint that what these ask for is about to be looked at."""


class Policy(Struct, frozen=True, kw_only=True):
    """The newest release of each library, with exceptions.

    Libraries that are `kept` (at versions of earlier locks, the most wanted first) stay wherever some
    solution lets them: as few as possible move. Versions that are `wanted` come before these: whatever keeps
    them out moves. Those to be `raised` come first: each gets the newest release that any solution allows,
    the ones named first before others. `preferred` versions (those of other targets) are tried first, but
    never force another library to move. Libraries in `lowest` get their lowest possible release. Files that
    were uploaded after `as_of` are ignored. Libraries in `may_build` may be taken as source archives.
    """

    kept: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)
    wanted: Mapping[NormalizedName, Version] = field(default_factory=dict)
    raised: tuple[NormalizedName, ...] = ()
    preferred: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)
    lowest: frozenset[NormalizedName] = frozenset()
    as_of: datetime | None = None
    may_build: frozenset[NormalizedName] = frozenset()

    def likes(self, name: NormalizedName) -> tuple[Version, ...]:
        """The versions of a library that are tried before all others."""
        wanted = (self.wanted[name],) if name in self.wanted else ()
        return (*wanted, *self.kept.get(name, ()), *self.preferred.get(name, ()))
