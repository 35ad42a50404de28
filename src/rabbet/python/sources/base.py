"""The interface of every source."""

from collections.abc import Sequence
from concurrent.futures import Future
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from packaging.utils import NormalizedName

from rabbet.core.model.lock import Artifact
from rabbet.core.model.release import ListedFile, Listing

if TYPE_CHECKING:
    from rabbet.net.http.client import HttpAnswer

__all__ = ["AskableSource", "FileSource", "Memory", "Source"]


class Memory(Protocol):
    """Remembers contents between runs, by keys that are names of files; losing one costs time only."""

    def __contains__(self, key: object) -> bool:
        """Whether the key is stored; its content may turn out to be damaged."""

    def recall(self, key: str) -> bytes | None:
        """The stored content; `None` when absent."""

    def remember(self, key: str, content: bytes) -> None:
        """Keep a content."""


class Source(Protocol):
    """A place where releases are listed. All methods may be called from many threads.

    All of them raise `SourceFailed` when the source does not work as a source.
    """

    name: str

    @property
    def index(self) -> str | None:
        """The address of an index, fit to be written down; `None` for a folder."""

    def listing(self, name: NormalizedName) -> Listing | None:
        """All releases of a library; `None` when the source does not know it."""

    def names(self) -> Sequence[str]:
        """All libraries that the source lists, for finding near names; empty when there are too many."""


@runtime_checkable
class FileSource(Source, Protocol):
    """A source whose releases are files; those of the others are trees, listed with all there is to say."""

    def metadata(self, file: ListedFile) -> bytes:
        """A file's core metadata, without reading the whole file where that is possible.

        Raises `MetadataBroken` when it holds none, or none that can be trusted without a build.
        """

    def locked(self, file: ListedFile) -> Artifact:
        """How a file is written into the lock, with its hash and size."""


@runtime_checkable
class AskableSource(FileSource, Protocol):
    """A source over the network: it can be asked ahead, without waiting for the answer."""

    def ask_listing(self, name: NormalizedName) -> "Future[HttpAnswer] | None":
        """Ask for a library's listing, once; `None` where a stored one serves."""

    def ask_metadata(self, file: ListedFile) -> "Future[HttpAnswer] | None":
        """Ask for the metadata file beside a file; `None` where there is none."""
