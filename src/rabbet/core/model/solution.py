"""A solution: the releases chosen for one target."""

from collections.abc import Mapping
from dataclasses import dataclass

from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part

__all__ = ["Solution"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Solution:
    """What was chosen, and the requirements that count here of each chosen part."""

    target: Target
    chosen: Mapping[NormalizedName, Candidate]
    needs: Mapping[Part, tuple[Need, ...]]
