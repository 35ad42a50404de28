"""Fetch the locked wheels into the store, several at once."""

import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from rabbet.core.model.lock import LockedFile, Needed
from rabbet.core.progress import Observer
from rabbet.net.local_file import local_path, read_pieces
from rabbet.python.store.entries import Unpacked
from rabbet.python.store.store import Store
from rabbet.work.pools import as_finished

if TYPE_CHECKING:
    from rabbet.net.http.client import HttpClient

__all__ = ["ArtifactFetcher", "content_from", "fetched_wheels"]

_THREADS = 16


class ArtifactFetcher(Struct, frozen=True, kw_only=True):
    """What fetching wheels takes: the store first, else the places that the lock names.

    Relative paths start at `folder`. The client opens only when something has to be fetched.
    """

    store: Store
    folder: Path
    open_client: Callable[[], "HttpClient"]
    observer: Observer


def fetched_wheels(needed: Sequence[Needed], fetcher: ArtifactFetcher) -> Iterator[tuple[Needed, Unpacked]]:
    """Fetch and unpack what the store lacks; each library as soon as it is there.

    The first failure ends it; what was fetched whole until then stays in the store.
    Raises `SourceFailed`, `IntegrityFailed`, `CannotWrite`.
    """
    store, observer = fetcher.store, fetcher.observer
    content = content_from(fetcher)

    def get(wheel: LockedFile) -> Unpacked:
        return store.obtain(wheel, lambda: content(wheel))

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


def content_from(fetcher: ArtifactFetcher) -> Callable[[LockedFile], Iterator[bytes]]:
    """Reads locked files, piece by piece, from the places that the lock names.

    The client is opened once, by whichever thread needs it first. What it gives raises `SourceFailed`.
    """
    client = _Client(fetcher.open_client)

    def content(file: LockedFile) -> Iterator[bytes]:
        for piece in _pieces(file, fetcher.folder, client):
            fetcher.observer.received(len(piece), file.filename, file.size or 0)
            yield piece

    return content


def _pieces(file: LockedFile, folder: Path, client: "_Client") -> Iterator[bytes]:
    if file.url is None:
        return read_pieces(folder / (file.path or ""))
    path = local_path(file.url)
    return client.opened.stream(file.url) if path is None else read_pieces(path)


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
