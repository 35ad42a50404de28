"""Which of several possible releases is wanted."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from packaging.utils import NormalizedName
from packaging.version import Version

__all__ = ["Policy"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """The newest release of each library, with exceptions.

    `preferred` versions (of an earlier lock) stay where they can. Libraries in `lowest` get their lowest
    possible release.
    """

    preferred: Mapping[NormalizedName, Version] = field(default_factory=dict)
    lowest: frozenset[NormalizedName] = frozenset()
