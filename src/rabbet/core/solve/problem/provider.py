"""The solver's source of candidates and metadata, and its order of preference among releases."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple, Protocol

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.release import Candidate, Metadata, Rejected
from rabbet.core.needs.need import Need
from rabbet.core.solve.problem.candidates import Candidates

__all__ = ["Narrowing", "Policy", "Provider", "Until"]


class Provider(Protocol):
    """Gives candidates and their needs. The same question always gets the same answer."""

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target, oldest first."""

    def metadata(self, candidate: Candidate) -> Metadata | Rejected:
        """The needs of one release, or why they can't be known."""

    def expect(self, needs: Iterable[Need]) -> None:
        """A hint that what these ask for is about to be looked at."""


class Until(NamedTuple):
    """A moment after which no file counts, how that is `told`, and the versions that are `spared` from it.

    It may be a rule's (`ruled`).
    """

    moment: datetime
    told: str
    spared: frozenset[Version] = frozenset()
    ruled: bool = False


class Narrowing(Protocol):
    """What rules leave of a library's releases. The same question always gets the same answer."""

    def untils(self, name: NormalizedName, source: str) -> Sequence[Until]:
        """How old the files of a library from a source must be."""

    def refusal(self, candidate: Candidate) -> str:
        """Why a release is refused, if it is; else empty."""


class Policy(Struct, frozen=True, kw_only=True):
    """The newest release of each library, with exceptions.

    Libraries that are `kept` (at versions of earlier locks, the most wanted first) stay wherever some
    solution lets them: as few as possible move. Versions that are `wanted` come before these: whatever keeps
    them out moves. Those to be `raised` come first: each gets the newest release that any solution allows,
    the ones named first before others. `preferred` versions (those of other targets) are tried first, but
    never force another library to move. Libraries in `lowest` get their lowest possible release. Files that
    were uploaded after `as_of` are ignored. Libraries in `may_build` may be taken as source archives. Rules
    may leave fewer releases (`narrowing`).
    """

    kept: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)
    wanted: Mapping[NormalizedName, Version] = field(default_factory=dict)
    raised: tuple[NormalizedName, ...] = ()
    preferred: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)
    lowest: frozenset[NormalizedName] = frozenset()
    as_of: datetime | None = None
    may_build: frozenset[NormalizedName] = frozenset()
    narrowing: Narrowing | None = None

    def untils(self, name: NormalizedName, source: str) -> Sequence[Until]:
        """The moments after which no file of a library from a source counts."""
        dated = [Until(self.as_of, f"later than {self.as_of:%Y-%m-%d}")] if self.as_of else []
        return [*dated, *(self.narrowing.untils(name, source) if self.narrowing else ())]

    def likes(self, name: NormalizedName) -> tuple[Version, ...]:
        """The versions of a library that are tried before all others."""
        wanted = (self.wanted[name],) if name in self.wanted else ()
        return (*wanted, *self.kept.get(name, ()), *self.preferred.get(name, ()))
