"""What every source can do."""

from collections.abc import Sequence
from typing import Protocol

from packaging.utils import NormalizedName

from rabbet.core.model.lock import LockedWheel
from rabbet.core.model.release import Listing, WheelFile

__all__ = ["Source"]


class Source(Protocol):
    """A place where releases are listed. All methods may be called from many threads.

    All of them raise `SourceFailed` when the source does not work as a source.
    """

    name: str

    @property
    def index(self) -> str | None:
        """The address of an index, fit to be written down; `None` for a folder."""

    def listing(self, name: NormalizedName) -> Listing | None:
        """All wheels of a library; `None` when the source does not know it."""

    def metadata(self, wheel: WheelFile) -> bytes:
        """A wheel's core metadata, without reading the whole wheel where that is possible.

        Raises `MetadataBroken` when the wheel holds none.
        """

    def locked(self, wheel: WheelFile) -> LockedWheel:
        """How a wheel is written into the lock, with its hash and size."""

    def names(self) -> Sequence[str]:
        """All libraries that the source lists, for finding near names; empty when there are too many."""
