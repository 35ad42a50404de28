"""HTTP with retries, proxies and one shared TLS context; every failure becomes a `SourceFailed`."""

import http.client
import socket
import ssl
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from typing import Any

import urllib3

from rabbet.core.limits import LONGEST_WAIT, MOST_PAGE, MOST_SECONDS
from rabbet.errors import SourceFailed
from rabbet.formats.address import Address, NotAnAddress, joined, parse_address, shown
from rabbet.sources.credentials import Credentials

__all__ = ["Answer", "HttpClient", "refused"]

_CONNECTIONS = 32
_TIMEOUT = urllib3.Timeout(connect=15, read=30)
_RETRIES = urllib3.Retry(
    total=3,
    backoff_factor=0.3,
    status_forcelist=(429, 502, 503, 504),
    raise_on_status=False,
    retry_after_max=LONGEST_WAIT,
)
_MOST_REDIRECTS = 8
_MOST_RESUMPTIONS = 3
_CHUNK = 1 << 16  # bytes: progress moves, on slow networks too


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """A whole answer; `address` is where it came from after redirects, header names are in lower case.

    No address holds credentials.
    """

    status: int
    address: str
    headers: Mapping[str, str]
    body: bytes


class HttpClient:
    """One pool of connections for a whole command, to be used from many threads.

    `environ` gives proxies and CA bundles by their usual variables. An `offline` client asks nobody.
    `patience` is how many seconds an answer may take to begin, and each piece of it to come.
    """

    def __init__(
        self,
        environ: Mapping[str, str],
        credentials: Credentials,
        *,
        offline: bool = False,
        patience: float = MOST_SECONDS,
    ) -> None:
        self.offline = offline
        self._patience = patience
        self._credentials = credentials
        self._authorities = (environ.get("SSL_CERT_FILE"), environ.get("SSL_CERT_DIR"))
        self._proxies = _proxies(environ)
        self._guard = threading.Lock()
        self._pools: dict[tuple[str, bool], urllib3.PoolManager] = {}

    def get(self, address: str, headers: Mapping[str, str] | None = None, *, method: str = "GET") -> Answer:
        """Fetch a whole answer, whatever its status. Raises `SourceFailed` when there is none."""
        with _translated(address):
            response, final = self._request(method, address, headers or {})
            try:
                body = b"" if method == "HEAD" else self._limited(response, address)
            finally:
                response.release_conn()
            return Answer(
                status=response.status,
                address=final,
                headers={name.lower(): value for name, value in response.headers.items()},
                body=body,
            )

    def stream(self, address: str) -> Iterator[bytes]:
        """Fetch a file piece by piece; one that breaks off is taken up again where it did, a few times.

        Whoever asks for it has to check its hash: nothing else tells that the pieces are of one file. Raises
        `SourceFailed` when it is not there, or breaks off again and again.
        """
        received = 0
        with _translated(address):
            for attempt in range(_MOST_RESUMPTIONS + 1):
                try:
                    for piece in self._from(address, received):
                        received += len(piece)
                        yield piece
                except urllib3.exceptions.ProtocolError:
                    if attempt == _MOST_RESUMPTIONS:
                        raise
                else:
                    return

    def _from(self, address: str, start: int) -> Iterator[bytes]:
        """A file's bytes from an offset; of servers without ranges, the bytes before it are discarded."""
        given = {"Accept-Encoding": "identity"}
        if start:
            given["Range"] = f"bytes={start}-"
        response, _ = self._request("GET", address, given)
        try:
            if response.status not in (200, 206):
                raise refused(address, response.status)
            skipped = start if response.status == 200 else 0
            for piece in self._pieces(response, address):
                if len(piece) > skipped:
                    yield piece[skipped:]
                skipped = max(0, skipped - len(piece))
        finally:
            response.close()

    def _request(
        self, method: str, address: str, headers: Mapping[str, str]
    ) -> tuple[urllib3.BaseHTTPResponse, str]:
        """Send a request and follow redirects; the answer, and its final address.

        Each address gets its own credentials. Where a request was protected, all that follow have to be, and
        a redirect leads to http or https only.
        """
        asked = parse_address(address)
        for _ in range(_MOST_REDIRECTS + 1):
            response = self._ask(method, asked, headers)
            location = response.get_redirect_location()
            if not location:
                return response, asked.text
            response.close()
            following = joined(asked.text, location)
            allowed = ("https",) if asked.scheme == "https" else ("http", "https")
            if following.scheme not in allowed:
                raise SourceFailed(
                    f"a source redirects from {asked.scheme} to an unsupported address",
                    because=[
                        f"{asked.text} → {following.text}",
                        "from https it may lead to https only, else to http too",
                    ],
                )
            asked = following._replace(credentials="")
        raise SourceFailed(
            "a source can't be reached",
            because=[shown(address), f"it redirects more than {_MOST_REDIRECTS} times"],
            note="check the source's address in pyproject.toml",
        )

    def _ask(self, method: str, address: Address, headers: Mapping[str, str]) -> urllib3.BaseHTTPResponse:
        if self.offline:
            raise SourceFailed(
                "something that is needed is not in the store",
                because=[f"offline: {address.text} may not be asked"],
                note="run it once without --offline and without RABBET_OFFLINE",
            )
        given = dict(headers)
        credentials = self._credentials.for_address(address)
        if credentials:
            given.update(urllib3.make_headers(basic_auth=credentials))
        pool = self._pool(address)
        return pool.request(method, address.text, headers=given, preload_content=False, redirect=False)

    def _pool(self, address: Address) -> urllib3.PoolManager:
        proxy = self._proxies.get(address.scheme, "")
        if proxy and _bypassed(address.host, self._proxies):
            proxy = ""
        key = (proxy, address.scheme == "https" or proxy.startswith("https"))
        with self._guard:
            if key not in self._pools:
                self._pools[key] = self._opened(*key)
            return self._pools[key]

    def _opened(self, proxy: str, protected: bool) -> urllib3.PoolManager:  # noqa: FBT001 - a part of the key
        """A connection pool, through a proxy if one is given; made once, for reading certificates is slow."""
        settings: dict[str, Any] = {
            "num_pools": 16,
            "maxsize": _CONNECTIONS,
            "retries": _RETRIES,
            "timeout": _TIMEOUT,
        }
        if protected:
            file, folder = self._authorities
            settings["ssl_context"] = _tls_context(file, folder)
        opened = urllib3.ProxyManager(proxy, **settings) if proxy else urllib3.PoolManager(**settings)
        opened.pool_classes_by_scheme = _impatient_pools(self._patience)
        return opened

    def _limited(self, response: urllib3.BaseHTTPResponse, address: str) -> bytes:
        """The decoded body of a page. Raises as soon as it is larger than any page."""
        announced = response.headers.get("content-length", "")
        pieces, size = [], int(announced) if len(announced) < 20 and announced.isdecimal() else 0
        if size <= MOST_PAGE:
            size = 0
            for piece in self._pieces(response, address):
                size += len(piece)
                if size > MOST_PAGE:
                    break
                pieces.append(piece)
            else:
                return b"".join(pieces)
        response.close()
        raise SourceFailed(
            "a source's answer is larger than any page should be",
            because=[f"{shown(address)}: more than {MOST_PAGE // 1_000_000} MB"],
        )

    def _pieces(self, response: urllib3.BaseHTTPResponse, address: str) -> Iterator[bytes]:
        """The decoded body in pieces. Raises where a piece takes longer than the time limit."""
        due, gathered = time.monotonic() + self._patience, 0
        while piece := response.read1(_CHUNK, decode_content=True):
            yield piece
            gathered += len(piece)
            if gathered >= _CHUNK:
                due, gathered = time.monotonic() + self._patience, 0
            elif time.monotonic() > due:
                response.close()
                raise SourceFailed(
                    "a source answers too slowly",
                    because=[f"{shown(address)}: {gathered} bytes in {self._patience:g} seconds"],
                )


def _tls_context(file: str | None, folder: str | None) -> ssl.SSLContext:
    """Trust the system's authorities, or those that the user names. Raises `SourceFailed`."""
    try:
        return ssl.create_default_context(cafile=file, capath=folder)
    except (OSError, ValueError) as error:
        raise SourceFailed(
            "the certificates that SSL_CERT_FILE or SSL_CERT_DIR names can't be used",
            because=[f"{file or folder}: {getattr(error, 'strerror', None) or error}"],
            note="name files that are there, or neither of the two variables",
        ) from error


def _impatient_pools(patience: float) -> dict[str, type[urllib3.HTTPConnectionPool]]:
    """A pool whose time limit counts for a whole header, and not only for each byte of it."""

    def begun(
        connection: urllib3.connection.HTTPConnection, wait: Callable[[], urllib3.HTTPResponse]
    ) -> urllib3.HTTPResponse:
        timer = threading.Timer(patience, _shut, [connection.sock])
        timer.daemon = True
        timer.start()
        try:
            return wait()
        finally:
            timer.cancel()

    class Plain(urllib3.connection.HTTPConnection):
        def getresponse(self) -> urllib3.HTTPResponse:  # type: ignore[override]
            return begun(self, super().getresponse)

    class Protected(urllib3.connection.HTTPSConnection):
        def getresponse(self) -> urllib3.HTTPResponse:  # type: ignore[override]
            return begun(self, super().getresponse)

    class PlainPool(urllib3.HTTPConnectionPool):
        ConnectionCls = Plain

    class ProtectedPool(urllib3.HTTPSConnectionPool):
        ConnectionCls = Protected

    return {"http": PlainPool, "https": ProtectedPool}


def _shut(connected: socket.socket) -> None:
    with suppress(OSError):
        connected.shutdown(socket.SHUT_RDWR)


def refused(address: str, status: int) -> SourceFailed:
    """The failure for an answer with a status that can't be used."""
    return SourceFailed(
        f"a source answered with status {status}",
        because=[shown(address)],
        note=_advice(status),
    )


def _advice(status: int) -> str:
    if status in (401, 403):
        return "set RABBET_SOURCE_<NAME>_USERNAME and RABBET_SOURCE_<NAME>_PASSWORD, or use a netrc file"
    return "try again later; if it stays so, check the source's address in pyproject.toml"


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


@contextmanager
def _translated(address: str) -> Iterator[None]:
    """Translate the HTTP library's errors to `SourceFailed`, the most specific first."""
    try:
        yield
    except urllib3.exceptions.HTTPError as error:
        raise _failure(shown(address), error) from error
    except NotAnAddress as error:
        raise SourceFailed("a source's address is not valid", because=[shown(address), str(error)]) from error
    except (ValueError, http.client.HTTPException) as error:
        raise SourceFailed("a source can't be asked", because=[shown(address), str(error)]) from error


def _failure(place: str, error: urllib3.exceptions.HTTPError) -> SourceFailed:
    """The failure of a source for what the HTTP library raised last."""
    last = error.reason if isinstance(error, urllib3.exceptions.MaxRetryError) else error
    if isinstance(last, urllib3.exceptions.ProtocolError | urllib3.exceptions.DecodeError):
        return SourceFailed(
            "a source's answer broke off or is not valid",
            because=[place, _reason(last)],
            note="try again; if it stays so, the source is broken",
        )
    if isinstance(last, urllib3.exceptions.SSLError):
        return SourceFailed(
            "a source's certificate is not trusted",
            because=[place, _reason(last)],
            note="if your organisation has a CA of its own, SSL_CERT_FILE names its certificate",
        )
    return SourceFailed(
        "a source can't be reached",
        because=[place, _reason(last)],
        note="check the network, and the source's address in pyproject.toml",
    )


def _reason(error: Exception | None) -> str:
    """The innermost explanation, without the memory addresses that the library prints."""
    inner = error.args[1] if isinstance(error, urllib3.exceptions.ProtocolError) and error.args[1:] else error
    if isinstance(inner, urllib3.exceptions.NameResolutionError):
        return "its name is not known to the network"
    if isinstance(inner, urllib3.exceptions.NewConnectionError):
        return "nothing answers there: the connection was refused"
    if isinstance(inner, http.client.IncompleteRead):
        received = inner.partial if isinstance(inner.partial, int) else len(inner.partial)
        return f"the answer broke off after {received} bytes"
    return str(inner).rpartition(">: ")[2] or type(inner).__name__
