"""Which source a library comes from, and what stands in the way of taking it from another one."""

from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatchcase

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.model.release import Candidate, Listing
from rabbet.core.needs.names import library_name
from rabbet.errors import SourceFailed
from rabbet.python.sources.base import FileSource, Source

__all__ = ["Claim", "Routing"]


class Claim(Struct, frozen=True):
    """A source, and the names and patterns of the libraries that come from there and from nowhere else.

    Of several that claim a library, the first counts: what it does not list, no other one may serve. One that
    claims nothing may serve every library that nobody claims.
    """

    source: Source
    only: tuple[str, ...] = ()

    def holds(self, name: NormalizedName) -> bool:
        """Whether a library is claimed."""
        return any(fnmatchcase(name, library_name(pattern)) for pattern in self.only)


class Routing:
    """The sources that count on one target, in their order.

    A library comes from the first source that claims it; any other one from the first that claims nothing and
    knows it. `locked_from` are the addresses of the indexes that locked libraries came from: from there they
    come again, or the command fails.
    """

    def __init__(self, claims: Sequence[Claim], locked_from: Mapping[NormalizedName, str]) -> None:
        self._claims = claims
        self._locked_from = locked_from
        self._by_name = {claim.source.name: claim.source for claim in claims}
        self._of_files = {
            name: source for name, source in self._by_name.items() if isinstance(source, FileSource)
        }

    def file_source(self, name: str) -> FileSource:
        """The source of this name, which lists files."""
        return self._of_files[name]

    @property
    def indexes(self) -> Mapping[str, str]:
        """The address of each source that is an index, by the source's name."""
        return {name: source.index for name, source in self._by_name.items() if source.index is not None}

    def names(self) -> Iterator[str]:
        """All names that the sources list, as far as they do."""
        for source in self._by_name.values():
            yield from source.names()

    def sources_of(self, name: NormalizedName) -> list[Source]:
        """The sources that may serve a library, in order."""
        claiming = self._claiming(name)
        return [claiming] if claiming else [claim.source for claim in self._claims if not claim.only]

    def why_not_elsewhere(self, name: NormalizedName) -> list[str]:
        """Why a library that the source which claims it does not list comes from no other one."""
        claiming = self._claiming(name)
        return [f"'{claiming.name}' claims {name}, so no other source is asked"] if claiming else []

    def sources_after(self, chosen: Candidate) -> list[Source]:
        """The sources behind the one that a library is taken from; none where one claims its name."""
        if self._claiming(chosen.name) or chosen.source not in self._by_name:
            return []  # of another target, for which the declaration names an address
        able = self.sources_of(chosen.name)
        return able[able.index(self._by_name[chosen.source]) + 1 :]

    def refuse_another_source(self, name: NormalizedName, listing: Listing | None) -> None:
        """A locked library never moves to another source in silence. Raises `SourceFailed`."""
        expected = self._locked_from.get(name)
        able = {source.index: source.name for source in self.sources_of(name)}
        if expected is None or expected not in able:
            return  # it is not locked, or the declaration itself says now that it comes from elsewhere
        found = self._by_name[listing.source] if listing is not None else None
        if found is not None and found.index == expected:
            return
        now = f"'{found.name}' lists it now" if found is not None else "no source lists it now"
        raise SourceFailed(
            f"{name} is locked from the source '{able[expected]}', and would not come from there any more",
            because=[f"{expected}{name}/", now],
            remedy=f"rabbet resolve --raise {name}",
        )

    def _claiming(self, name: NormalizedName) -> Source | None:
        return next((claim.source for claim in self._claims if claim.holds(name)), None)
