"""The census page, live on the loopback address: read-only, for one machine's own browser."""

from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

__all__ = ["page_server"]

_HEADERS = {
    "Content-Type": "text/html; charset=utf-8",
    "Cache-Control": "no-store",
    "Referrer-Policy": "no-referrer",
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Cross-Origin-Resource-Policy": "same-origin",
}
_ADDRESS = "127.0.0.1"
_REFRESH = 60  # seconds after which a browser asks again


def page_server(render: Callable[[], str], port: int) -> ThreadingHTTPServer:
    """A server that makes the page anew for each request, on a port or (0) a free one. Raises `OSError`."""

    class Handler(BaseHTTPRequestHandler):
        """Answers for the page alone, if it is asked for by the names of the loopback.

        A page from elsewhere whose name was made to lead here would ask under that name.
        """

        server_version, sys_version = "rabbet", ""

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
            content = render().encode()
            self.send_response(200)
            for name, value in _HEADERS.items():
                self.send_header(name, value)
            self.send_header("Refresh", str(_REFRESH))
            self.send_header("Content-Length", str(len(content)))
            self.end_headers()
            if body:
                self.wfile.write(content)

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002 - the library's name
            """Nothing is logged."""

    return ThreadingHTTPServer((_ADDRESS, port), Handler)
