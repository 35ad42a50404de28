"""A solution: the releases chosen for one target."""

from collections.abc import Mapping

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate
from rabbet.core.model.target import Target
from rabbet.core.needs.need import Need, Part

__all__ = ["Solution"]


class Solution(Struct, frozen=True, kw_only=True):
    """What was chosen, and the requirements that count here of each chosen part."""

    target: Target
    chosen: Mapping[NormalizedName, Candidate]
    needs: Mapping[Part, tuple[Need, ...]]
