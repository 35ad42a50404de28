"""Which of several possible releases is wanted."""

from collections.abc import Mapping
from datetime import datetime

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

__all__ = ["Policy"]


class Policy(Struct, frozen=True, kw_only=True):
    """The newest release of each library, with exceptions.

    Libraries that are `kept` (at versions of earlier locks, the most wanted first) stay wherever some
    solution lets them: as few as possible move. Versions that are `wanted` come before these: whatever keeps
    them out moves. Those to be `raised` come first: each gets the newest release that any solution allows,
    the ones named first before others. `preferred` versions (those of other targets) are tried first, and
    given up for nothing. Libraries in `lowest` get their lowest possible release. Nothing uploaded after
    `as_of` exists. Those that `may_build` holds may be taken as source archives.
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
