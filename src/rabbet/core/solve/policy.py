"""Which of several possible releases is wanted."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from packaging.utils import NormalizedName
from packaging.version import Version

__all__ = ["Policy"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """The newest release of each library, with exceptions.

    `preferred` versions (of earlier locks, the most wanted first) stay where they can. Libraries in `lowest`
    get their lowest possible release. Nothing uploaded after `as_of` exists. Those that `may_build` holds
    may be taken as source archives.
    """

    preferred: Mapping[NormalizedName, tuple[Version, ...]] = field(default_factory=dict)
    lowest: frozenset[NormalizedName] = frozenset()
    as_of: datetime | None = None
    may_build: frozenset[NormalizedName] = frozenset()
