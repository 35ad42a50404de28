"""Where a locked file may be had when its address fails: at mirrors, or where its source is now."""

from collections.abc import Iterator, Sequence
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedFile, LockedSdist, LockedWheel
from rabbet.errors import RabbetError, SourceFailed, Way
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.python.sources.asking.routing import Claim
    from rabbet.python.sources.base import FileSource

__all__ = ["SourcePlaces"]


class SourcePlaces:
    """The places of a project's sources; they are opened when the first file is not where the lock says."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def addresses(self, file: LockedFile) -> Iterator[str]:
        """The same path at each place of the library's source, then what the place lists.

        Whether a place has the same file is for the hash to say.
        """
        if file.url is None or not isinstance(file, LockedWheel | LockedSdist):
            return  # it came with the project, or from an address that the declaration names
        tried = {file.url}
        for place in self._places_of(_name_of(file)):
            for address in self._at(place, file, file.url):
                if address not in tried:
                    tried.add(address)
                    yield address

    def advise(self, file: LockedFile, error: RabbetError) -> None:
        """Name the way to new addresses where the lock's source is none of the project's any more."""
        name = _name_of(file)
        index = self._locked_from.get(name)
        now = [place.index for place in self._places_of(name)]
        if index is not None and now and index not in now:
            error.because = (*error.because, f"{name} is locked from {index}; its source is now {now[0]}")
            error.ways = (Way("rabbet resolve --fresh-listings", "locks the addresses of today"), *error.ways)

    def _at(self, place: "FileSource", file: LockedFile, url: str) -> Iterator[str]:
        from rabbet.formats.text.address import moved, parse_address

        locked_from = self._locked_from.get(_name_of(file))
        if place.index is not None:
            same_path = moved(url, locked_from, place.index) if locked_from is not None else None
            if same_path is not None:
                yield same_path
            if parse_address(place.index).origin == parse_address(url).origin:
                return  # which just failed
        with suppress(SourceFailed):
            listing = place.listing(_name_of(file))
            for listed in listing.files if listing is not None else ():
                if listed.filename == file.filename and listed.sha256 in (None, file.sha256):
                    yield listed.location

    def _places_of(self, name: NormalizedName) -> "list[FileSource]":
        """The places of the source that the library is locked from, else of all that may serve it."""
        from rabbet.python.sources.asking.routing import Routing
        from rabbet.python.sources.base import FileSource
        from rabbet.python.sources.kinds.mirrors import MirroredSource

        found = [
            list(source.places) if isinstance(source, MirroredSource) else [source]
            for source in Routing(self._claims, {}).sources_of(name)
            if isinstance(source, FileSource)
        ]
        locked_from = self._locked_from.get(name)
        own = [places for places in found if locked_from in [place.index for place in places]]
        return [place for places in own or found for place in places]

    @cached_property
    def _claims(self) -> "Sequence[Claim]":
        from rabbet.workspace.fetching.opening import open_claims

        with suppress(SourceFailed):
            return open_claims(self._session, self._session.declaration(), always=True).claims
        return ()

    @cached_property
    def _locked_from(self) -> dict[NormalizedName, str]:
        """The addresses of the indexes that libraries are locked from."""
        with suppress(RabbetError):
            return {
                library.name: library.index for library in self._session.lock().libraries if library.index
            }
        return {}


def _name_of(file: LockedFile) -> NormalizedName:
    from rabbet.python.choosing.file_name import parse_file_name

    return parse_file_name(file.filename).name
