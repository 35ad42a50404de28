"""Fetch locked files into the store, several at once, from where the lock says or from other places."""

import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import partial
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar

from msgspec import Struct

from rabbet.core.model.lock import LockedFile, Needed
from rabbet.core.progress import Observer
from rabbet.errors import IntegrityFailed, RabbetError, SourceFailed
from rabbet.formats.text.address import NotAnAddress, parse_address, shown
from rabbet.net.local_file import local_path, read_pieces
from rabbet.python.store.entries import Unpacked
from rabbet.python.store.store import Store
from rabbet.work.pools import as_finished

if TYPE_CHECKING:
    from rabbet.net.http.client import HttpClient

__all__ = ["ArtifactFetcher", "LockedContents", "OtherPlaces", "fetched_wheels"]

_THREADS = 16
_Taken = TypeVar("_Taken")


class OtherPlaces(Protocol):
    """Where a locked file may also be had: at mirrors, or where its source is now."""

    def addresses(self, file: LockedFile) -> Iterator[str]:
        """Further addresses, the likeliest first; looked for one after the other."""

    def advise(self, file: LockedFile, error: RabbetError) -> None:
        """Add what helps to the error, where none of them gave the file."""


class ArtifactFetcher(Struct, frozen=True, kw_only=True):
    """What fetching wheels takes: the store first, else the places that the lock names.

    Relative paths start at `folder`. The client opens only when something has to be fetched.
    """

    store: Store
    folder: Path
    open_client: Callable[[], "HttpClient"]
    elsewhere: OtherPlaces
    observer: Observer


def fetched_wheels(needed: Sequence[Needed], fetcher: ArtifactFetcher) -> Iterator[tuple[Needed, Unpacked]]:
    """Fetch and unpack what the store lacks; each library as soon as it is there.

    The first failure ends it; what was fetched whole until then stays in the store.
    Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    store, observer = fetcher.store, fetcher.observer
    contents = LockedContents(fetcher)

    def get(wheel: LockedFile) -> Unpacked:
        return contents.taken(wheel, partial(store.obtain, wheel))

    missing = [library.artifact for library in needed if not store.has(library.artifact)]
    size = sum(wheel.size or 0 for wheel in missing)
    observer.stage(f"fetching {len(missing)}" if missing else "unpacking", len(needed), size=size)
    pool = ThreadPoolExecutor(_THREADS, thread_name_prefix="fetch")
    try:
        waiting = {pool.submit(get, library.artifact): library for library in _largest_first(needed)}
        for future in as_finished(waiting):
            item = waiting.pop(future)
            unpacked = future.result()
            observer.step(item.artifact.filename)
            if waiting:
                more = f" and {len(waiting) - 1} more" if len(waiting) > 1 else ""
                next_one = next(iter(waiting.values())).locked
                observer.waiting(f"{next_one.name} {next_one.version}{more}")
            yield item, unpacked
    finally:
        pool.shutdown(wait=False, cancel_futures=True)


def _largest_first(needed: Sequence[Needed]) -> list[Needed]:
    """Start the largest files first, for one that starts last delays the end."""
    return sorted(needed, key=lambda item: -(item.artifact.size or 0))


class LockedContents:
    """Reads locked files, piece by piece; the client is opened once, by whichever thread needs it first."""

    def __init__(self, fetcher: ArtifactFetcher) -> None:
        self._fetcher = fetcher
        self._client = _Client(fetcher.open_client)
        self._failing: set[str] = set()

    def taken(self, file: LockedFile, take: Callable[[Callable[[], Iterator[bytes]]], _Taken]) -> _Taken:
        """Give `take` a file's content: from where the lock says, else from one place more after the other.

        `take` raises `IntegrityFailed` for content that is not what was locked. Raises what the lock's own
        address came to, where all fail.
        """
        failed: dict[str | None, RabbetError] = {}
        for address in self._addresses(file):
            try:
                return take(partial(self._at, file, address))
            except (SourceFailed, IntegrityFailed) as error:
                failed[address] = error
                self._failing.add(_origin(address))
        first = failed.pop(file.url)
        others = (f"nor from {shown(address or '')}: {error}" for address, error in failed.items())
        first.because = (*first.because, *others)
        self._fetcher.elsewhere.advise(file, first)
        raise first

    def _addresses(self, file: LockedFile) -> Iterator[str | None]:
        """The lock's own address and the others, but last those of a host where a file was asked in vain."""
        last = []
        for address in chain((file.url,), self._fetcher.elsewhere.addresses(file)):
            if _origin(address) in self._failing:
                last.append(address)
            else:
                yield address
        yield from last

    def _at(self, file: LockedFile, address: str | None) -> Iterator[bytes]:
        for piece in self._pieces(file, address):
            self._fetcher.observer.received(len(piece), file.filename, file.size or 0)
            yield piece

    def _pieces(self, file: LockedFile, address: str | None) -> Iterator[bytes]:
        if address is None:
            return read_pieces(self._fetcher.folder / (file.path or ""))
        path = local_path(address)
        return self._client.opened.stream(address) if path is None else read_pieces(path)


def _origin(address: str | None) -> str:
    """What fails together: a host, or the files that came with the project."""
    with suppress(NotAnAddress):
        return parse_address(address).origin if address is not None else ""
    return ""


class _Client:
    """The HTTP client, opened once, by whichever thread needs it first."""

    def __init__(self, open_client: "Callable[[], HttpClient]") -> None:
        self._open = open_client
        self._guard = threading.Lock()
        self._opened: HttpClient | None = None

    @property
    def opened(self) -> "HttpClient":
        with self._guard:
            if self._opened is None:
                self._opened = self._open()
            return self._opened
