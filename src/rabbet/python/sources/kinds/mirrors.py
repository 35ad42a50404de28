"""An index with mirrors: the same libraries at several addresses, asked in order until one answers."""

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from typing import TypeVar

from msgspec.structs import replace
from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedSdist, LockedWheel
from rabbet.core.model.release import ListedFile, Listing
from rabbet.errors import IntegrityFailed, SourceFailed
from rabbet.formats.text.address import moved
from rabbet.net.http.client import HttpAnswer
from rabbet.python.sources.kinds.index import IndexSource

__all__ = ["MirroredSource"]

_Answer = TypeVar("_Answer")


class MirroredSource:
    """Several indexes that list the same, in order; the first gives the addresses that are locked.

    The one that failed is not asked again for listings in this run.
    """

    def __init__(self, places: Sequence[IndexSource]) -> None:
        self.name = places[0].name
        self.places = tuple(places)
        self._guard = threading.Lock()
        self._at = 0  # the place that answers, as far as is known

    @property
    def index(self) -> str | None:
        """The first address, whichever answers: a lock is the same on every machine."""
        return self.places[0].index

    def ask_listing(self, name: NormalizedName) -> "Future[HttpAnswer] | None":
        """Ask the place that answers for a library's page, without waiting."""
        return self.places[self._at].ask_listing(name)

    def ask_metadata(self, file: ListedFile) -> "Future[HttpAnswer] | None":
        """Ask the place that answers for the metadata file beside a file, without waiting."""
        place = self.places[self._at]
        return place.ask_metadata(self._there(file, place))

    def listing(self, name: NormalizedName) -> Listing | None:
        """The listing of the first place that answers, with addresses as the first place has them."""
        at, listing = self._first(self._at, lambda place: place.listing(name))
        with self._guard:
            self._at = max(self._at, at)
        place = self.places[at]
        if listing is None or place is self.places[0]:
            return listing
        files = (
            file._replace(location=_moved(file.location, place, self.places[0])) for file in listing.files
        )
        return replace(listing, files=tuple(files))

    def metadata(self, file: ListedFile) -> bytes:
        """A file's metadata from the first place that has it as it was listed."""
        return self._first(self._at, lambda place: place.metadata(self._there(file, place)))[1]

    def locked(self, file: ListedFile) -> LockedWheel | LockedSdist:
        """How a file is locked: at the first place."""
        _, artifact = self._first(self._at, lambda place: place.locked(self._there(file, place)))
        return replace(artifact, url=file.location)

    def names(self) -> Sequence[str]:
        """All libraries that the first place which answers lists."""
        return self._first(self._at, lambda place: place.names())[1]

    def _first(self, start: int, ask: Callable[[IndexSource], _Answer]) -> tuple[int, _Answer]:
        """The first answer, and which place gave it. Raises what the first place raised, where none does."""
        try:
            return start, ask(self.places[start])
        except (SourceFailed, IntegrityFailed) as error:
            first = error
        for at, mirror in enumerate(self.places[start + 1 :], start + 1):
            try:
                return at, ask(mirror)
            except (SourceFailed, IntegrityFailed) as error:
                first.because = (*first.because, f"its mirror {mirror.address}: {error}")
        raise first

    def _there(self, file: ListedFile, place: IndexSource) -> ListedFile:
        if place is self.places[0]:
            return file
        return file._replace(location=_moved(file.location, self.places[0], place))


def _moved(location: str, old: IndexSource, new: IndexSource) -> str:
    """A file's address at another place; as it is where both lead to the same servers of files."""
    return moved(location, old.address, new.address) or location
