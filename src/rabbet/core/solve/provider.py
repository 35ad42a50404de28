"""The interface through which the solver reads candidates and metadata."""

from collections.abc import Iterable
from typing import Protocol

from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate, Metadata, SetAside
from rabbet.core.needs.need import Need
from rabbet.core.solve.candidates import Candidates

__all__ = ["Provider"]


class Provider(Protocol):
    """Gives candidates and their needs. The same question always gets the same answer."""

    def candidates(self, name: NormalizedName) -> Candidates:
        """All releases of a library that fit the target, oldest first."""

    def metadata(self, candidate: Candidate) -> Metadata | SetAside:
        """The needs of one release, or why they can't be known."""

    def expect(self, needs: Iterable[Need]) -> None:
        """A hint that what these ask for is about to be looked at."""
