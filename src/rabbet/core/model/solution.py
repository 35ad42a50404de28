"""A solution: the releases chosen for one target."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TypeAlias

from packaging.requirements import Requirement
from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target

__all__ = ["Part", "Solution"]

Part: TypeAlias = tuple[NormalizedName, str]
"""A library and one of its extras; the extra is empty for the library itself."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Solution:
    """What was chosen, and the requirements that count here of each chosen part."""

    target: Target
    chosen: Mapping[NormalizedName, Candidate]
    needs: Mapping[Part, tuple[Requirement, ...]]
