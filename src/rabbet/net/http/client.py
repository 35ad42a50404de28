"""One client for a project: who is asked how, and whose certificates are trusted.

A libcurl that comes in a wheel knows none, so it is given those that Python's own `ssl` would take.

Every failure becomes a `SourceFailed`. `exchange.py` holds the steps of one request.
"""

import os
import threading
from base64 import b64encode
from collections.abc import Iterator, Mapping
from concurrent.futures import Future
from functools import cached_property, partial
from pathlib import Path
from queue import Empty, SimpleQueue
from typing import NamedTuple

import pycurl

from rabbet.core.limits import LONGEST_ANSWER, MOST_PAGE
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import Address, NotAnAddress, parse_address, shown
from rabbet.net.http.credentials import Credentials
from rabbet.net.http.exchange import Exchange, not_an_address
from rabbet.net.http.failures import refused, too_large
from rabbet.net.http.headers import announced_size
from rabbet.net.http.wire import Head, Request, Transfer, Wire
from rabbet.work.pools import AT_MOST, awaited

__all__ = ["Authorities", "HttpAnswer", "HttpClient", "authorities"]


Authorities = tuple[str, str]  # a file and a folder, each may be empty


def authorities(environ: Mapping[str, str]) -> Authorities:
    """The certificate authorities named by `SSL_CERT_FILE` and `SSL_CERT_DIR`, else the system's.

    Raises `SourceFailed` where what is named is not there.
    """
    named = environ.get("SSL_CERT_FILE", ""), environ.get("SSL_CERT_DIR", "")
    if not any(named):
        return _of_the_system()
    for path, there in zip(named, (Path(named[0]).is_file(), Path(named[1]).is_dir()), strict=True):
        if path and not there:
            raise SourceFailed(
                "the certificates that SSL_CERT_FILE or SSL_CERT_DIR names can't be used",
                because=[f"{path}: {os.strerror(2)}"],
                note="name files that are there, or neither of the two variables",
            )
    return named


def _of_the_system() -> Authorities:
    import ssl  # here: only https needs it

    paths = ssl.get_default_verify_paths()
    return paths.cafile or "", paths.capath or ""


_MOST_RESUMPTIONS = 3
_MOST_AHEAD = 1 << 18  # bytes of a file that wait to be taken, beyond which its source has to wait


class HttpAnswer(NamedTuple):
    """A whole answer; `address` is where it came from after redirects, header names are in lower case.

    No address holds credentials.
    """

    status: int
    address: str
    headers: Mapping[str, str]
    body: bytes


class HttpClient:
    """An HTTP client over one wire, with one declaration's credentials; many threads may use it.

    `environ` gives proxies and CA bundles by their usual variables. An `offline` client asks nobody. An
    answer that is no file may take `longest` seconds as a whole.
    """

    def __init__(
        self,
        wire: Wire,
        environ: Mapping[str, str],
        credentials: Credentials,
        *,
        offline: bool = False,
        longest: int = LONGEST_ANSWER,
    ) -> None:
        self.offline = offline
        self._longest = longest
        self._environ = environ
        self._credentials = credentials
        self._proxies = _proxies(environ)
        self._wire = wire

    def begin(
        self, address: str, headers: Mapping[str, str] | None = None, *, method: str = "GET"
    ) -> "Future[HttpAnswer]":
        """Ask for a whole answer, whatever its status; where there is none, it raises `SourceFailed`."""
        page = _Page()
        try:
            self._ask(method, address, headers or {}, page, self._longest)
        except SourceFailed as error:
            page.failed(error)
        return page.answer

    def get(
        self, address: str, headers: Mapping[str, str] | None = None, *, method: str = "GET"
    ) -> HttpAnswer:
        """Wait for a whole answer. Raises `SourceFailed` when there is none."""
        return awaited(self.begin(address, headers, method=method))

    def stream(self, address: str) -> Iterator[bytes]:
        """Fetch a file piece by piece; one that breaks off is taken up again where it did, a few times.

        Whoever asks for it has to check its hash: nothing else tells that the pieces are of one file. Raises
        `SourceFailed` when it is not there, or breaks off again and again.
        """
        received = 0
        for attempt in range(_MOST_RESUMPTIONS + 1):
            before = received
            try:
                for piece in self._from(address, received):
                    received += len(piece)
                    yield piece
            except SourceFailed:
                if received == before or attempt == _MOST_RESUMPTIONS:
                    raise
            else:
                return

    def _from(self, address: str, start: int) -> Iterator[bytes]:
        """A file's bytes from an offset; of servers without ranges, the bytes before it are discarded."""
        given = {"Accept-Encoding": "identity"}
        if start:
            given["Range"] = f"bytes={start}-"
        flow = _Flow()
        exchange = self._ask("GET", address, given, flow)
        left = start  # bytes that are discarded, where all of it comes again
        try:
            for piece, head in flow.pieces(exchange):
                if head.status not in (200, 206):
                    raise refused(address, head.status)
                if piece is None:
                    return
                skipped = min(left, len(piece)) if head.status == 200 else 0
                left -= skipped
                if skipped < len(piece):
                    yield piece[skipped:]
        finally:
            exchange.drop()

    def _ask(
        self, method: str, address: str, headers: Mapping[str, str], sink: "_Page | _Flow", seconds: int = 0
    ) -> Exchange:
        """Begin an exchange. Raises `SourceFailed` for what can't be asked, or may not."""
        try:
            asked = parse_address(address)
        except NotAnAddress as error:
            raise not_an_address(address, error) from error
        if asked.scheme not in ("http", "https"):
            raise SourceFailed(
                "a source can't be asked", because=[shown(address), "it is neither http nor https"]
            )
        if self.offline:
            raise SourceFailed(
                "something that is needed is not in the store",
                because=[f"offline: {asked.text} may not be asked"],
                note="run it once without --offline and without RABBET_OFFLINE",
            )
        exchange = Exchange(self._wire, partial(self._request, method, headers, seconds), asked, sink)
        exchange.begin()
        return exchange

    def _request(self, method: str, headers: Mapping[str, str], seconds: int, address: Address) -> Request:
        """The request to an address, with the credentials and the proxy that belong to it.

        Raises `NotUnderstood` for a broken netrc file, `SourceFailed` for authorities that are not there.
        """
        lines = [f"{name}: {value}" for name, value in headers.items()]
        proxy = self._proxies.get(address.scheme, "")
        if proxy and _bypassed(address.host, self._proxies):
            proxy = ""
        # A proxy reads what is sent over http.
        reads_along = address.scheme == "http" and proxy
        credentials = None if reads_along else self._credentials.for_address(address)
        if credentials:
            lines.append(f"Authorization: Basic {b64encode(credentials.encode()).decode()}")
        protected = address.scheme == "https" or proxy.startswith("https")
        return Request(
            method=method,
            address=address.sent,
            host=address.origin,
            headers=tuple(lines),
            packed="Accept-Encoding" not in headers and method != "HEAD",
            proxy=proxy,
            authorities=self._authorities if protected else ("", ""),
            seconds=seconds,
        )

    @cached_property
    def _authorities(self) -> Authorities:
        return authorities(self._environ)


class _Page:
    """Gathers a whole answer, up to a bound."""

    def __init__(self) -> None:
        self.answer: Future[HttpAnswer] = Future()
        self._pieces: list[bytes] = []
        self._size = 0

    def restart(self) -> bool:
        self._pieces, self._size = [], 0
        return True

    def take(self, transfer: Transfer, piece: bytes) -> int | None:
        self._size += len(piece)
        if max(self._size, announced_size(transfer.head().headers) or 0) > MOST_PAGE:
            self.failed(too_large(transfer.request.address))
            return -1
        self._pieces.append(piece)
        return None

    def whole(self, address: Address, head: Head) -> None:
        body, self._pieces = b"".join(self._pieces), []
        self.answer.set_result(HttpAnswer(head.status, address.text, head.headers, body))

    def failed(self, error: Exception) -> None:
        if not self.answer.done():
            self.answer.set_exception(error)


class _Flow:
    """Hands an answer's pieces to another thread, and makes its source wait for that."""

    def __init__(self) -> None:
        self._queue: SimpleQueue[tuple[bytes | None, Head] | Exception] = SimpleQueue()
        self._guard = threading.Lock()
        self._ahead = 0  # bytes that wait to be taken
        self._paused = False
        self._begun = False

    def restart(self) -> bool:
        return not self._begun

    def take(self, transfer: Transfer, piece: bytes) -> int | None:
        self._begun = True
        with self._guard:
            if self._ahead > _MOST_AHEAD:
                self._paused = True
                return int(pycurl.WRITEFUNC_PAUSE)
            self._ahead += len(piece)
        self._queue.put((piece, transfer.head()))
        return None

    def whole(self, _: Address, head: Head) -> None:
        self._queue.put((None, head))

    def failed(self, error: Exception) -> None:
        self._queue.put(error)

    def pieces(self, exchange: Exchange) -> Iterator[tuple[bytes | None, Head]]:
        """Each piece with the answer's head, and `None` at the end. Raises what the exchange came to."""
        while True:
            try:
                given = self._queue.get(timeout=AT_MOST)
            except Empty:
                continue  # so that Ctrl-C is noticed
            if isinstance(given, Exception):
                raise given
            if given[0] is not None:
                self._let_on(len(given[0]), exchange)
            yield given

    def _let_on(self, size: int, exchange: Exchange) -> None:
        with self._guard:
            self._ahead -= size
            resuming = self._paused and self._ahead < _MOST_AHEAD // 2
            self._paused = self._paused and not resuming
        if resuming:
            exchange.resume()


def _proxies(environ: Mapping[str, str]) -> dict[str, str]:
    found = {}
    for scheme in ("http", "https", "no"):
        for name in (f"{scheme}_proxy", f"{scheme}_proxy".upper()):
            if environ.get(name):
                found[scheme] = environ[name]
                break
    return found


def _bypassed(host: str, proxies: Mapping[str, str]) -> bool:
    from urllib.request import proxy_bypass_environment  # type: ignore[attr-defined]  # typeshed lacks it

    return bool(proxy_bypass_environment(host, proxies))
