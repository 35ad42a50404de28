"""The census page, live on the loopback address: read-only, for one machine's own browser.

Anyone who uses this machine can connect, so connections are few and short, and an error ends one alone.
"""

import socket
import sys
from collections.abc import Callable
from contextlib import suppress
from hashlib import sha256
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import BoundedSemaphore, Lock, Timer
from typing import NamedTuple

from rabbet.errors import RabbetError

__all__ = ["LivePage", "page_server"]

_HEADERS = {
    "Cache-Control": "private, no-cache",  # a browser asks each time, and may be told that it has the newest
    "Referrer-Policy": "no-referrer",
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Resource-Policy": "same-origin",
}
_ADDRESS = "127.0.0.1"
_REFRESH = 60  # seconds after which a browser asks again
_MOST_CONNECTIONS = 20
_LONGEST_SILENCE, _LONGEST_CONNECTION = 10, 60  # seconds


class _Made(NamedTuple):
    state: str
    content: bytes
    etag: str


class LivePage:
    """A page that is made again once there is another state to show, whatever number of browsers ask for it.

    `render` makes it; `state` is a text that differs where another page would be made. Both may raise
    `RabbetError`.
    """

    def __init__(self, render: Callable[[], str], state: Callable[[], str]) -> None:
        self._render, self._state = render, state
        self._made: _Made | None = None
        self._one_at_a_time = Lock()

    def newest(self) -> _Made:
        """The page of now. Raises `RabbetError`."""
        with self._one_at_a_time:
            state = self._state()
            if self._made is None or self._made.state != state:
                content = self._render().encode("utf-8", "replace")
                self._made = _Made(state, content, f'"{sha256(content).hexdigest()}"')
            return self._made


def page_server(page: LivePage, port: int) -> ThreadingHTTPServer:
    """A server that gives the newest page, on a port or (0) a free one. Raises `OSError`."""

    class Handler(BaseHTTPRequestHandler):
        """Answers for the page alone, if it is asked for by the names of the loopback.

        A page from elsewhere whose name was made to lead here would ask under that name.
        """

        server_version, sys_version = "rabbet", ""
        timeout = _LONGEST_SILENCE

        def do_GET(self) -> None:
            """The page."""
            self._answer(body=True)

        def do_HEAD(self) -> None:
            """Its headers."""
            self._answer(body=False)

        def _answer(self, *, body: bool) -> None:
            host = self.headers.get("Host", "").rpartition(":")[0]
            if host not in (_ADDRESS, "localhost"):
                self.send_error(403, "ask for 127.0.0.1")
                return
            if self.path != "/":
                self.send_error(404)
                return
            etag = ""
            try:
                _, content, etag = page.newest()
                status, kind = (304 if self.headers.get("If-None-Match") == etag else 200), "html"
            except RabbetError as error:  # the project may have changed since the last request
                status, kind = 503, "plain"
                content = "\n".join([str(error), *error.because]).encode("utf-8", "replace")
            self.send_response(status)
            for name, value in _HEADERS.items():
                self.send_header(name, value)
            if etag:
                self.send_header("ETag", etag)
            self.send_header("Refresh", str(_REFRESH))
            if status == 304:
                self.end_headers()
                return
            self.send_header("Content-Type", f"text/{kind}; charset=utf-8")
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            if body:
                self.wfile.write(content)

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002 - the library's name
            """Nothing is logged."""

    return _Server((_ADDRESS, port), Handler)


class _Server(ThreadingHTTPServer):
    """A thread for each connection, of which only a few are open at a time, and none for long."""

    def __init__(self, address: tuple[str, int], handler: type[BaseHTTPRequestHandler]) -> None:
        super().__init__(address, handler)
        self._free = BoundedSemaphore(_MOST_CONNECTIONS)

    # The base class has a union with what datagrams give, which never come here.
    def process_request(self, request: socket.socket, client_address: object) -> None:  # type: ignore[override]
        """Begin with a connection, unless there are too many."""
        if not self._free.acquire(blocking=False):
            self.shutdown_request(request)
            return
        try:
            super().process_request(request, client_address)
        except BaseException:  # no thread was started, which would have released it
            self._free.release()
            raise

    def process_request_thread(self, request: socket.socket, client_address: object) -> None:  # type: ignore[override]
        """Serve a connection to its end."""
        ending = Timer(_LONGEST_CONNECTION, _end, [request])
        ending.daemon = True
        ending.start()
        try:
            super().process_request_thread(request, client_address)
        finally:
            ending.cancel()
            self._free.release()

    def handle_error(self, request: object, client_address: object) -> None:
        """Tell a fault; a browser that goes away, or stays silent, is none."""
        if not isinstance(sys.exc_info()[1], OSError):
            super().handle_error(request, client_address)  # type: ignore[arg-type]


def _end(connection: socket.socket) -> None:
    with suppress(OSError):  # it may have ended already
        connection.shutdown(socket.SHUT_RDWR)
