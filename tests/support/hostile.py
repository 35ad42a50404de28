"""A server on the loopback address that answers as a test wants, and notes what it was sent."""

import threading
import time
from collections.abc import Mapping, MutableMapping
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Self


@dataclass
class Reply:
    """An answer; its body comes in pieces of so many bytes, with pauses (seconds) between them."""

    body: bytes = b""
    status: int = 200
    headers: Mapping[str, str] = field(default_factory=dict)
    piece: int = 1 << 20
    pause: float = 0.0
    late: float = 0.0  # before the status line, which then comes byte by byte


class _Server(ThreadingHTTPServer):
    request_queue_size = 128


class Hostile:
    """Serves `replies` by path, or by a `handler`, until it is closed.

    `sent` are the credentials that came with each request.
    """

    def __init__(
        self,
        replies: MutableMapping[str, Reply],
        handler: type[BaseHTTPRequestHandler] | None = None,
    ) -> None:
        self.replies = replies
        self.sent: list[tuple[str, str | None]] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                outer.sent.append((self.path, self.headers.get("Authorization")))
                reply = outer.replies.get(self.path, Reply(status=404))
                for _ in range(int(reply.late / 0.05)):
                    self.wfile.write(b"H" if not _ else b"")
                    self.wfile.flush()
                    time.sleep(0.05)
                self.send_response(reply.status)
                for name, value in {"Content-Length": str(len(reply.body)), **reply.headers}.items():
                    if value:
                        self.send_header(name, value)
                self.end_headers()
                if self.command == "GET":
                    for start in range(0, len(reply.body), reply.piece):
                        self.wfile.write(reply.body[start : start + reply.piece])
                        self.wfile.flush()
                        time.sleep(reply.pause)

            do_HEAD = do_GET  # noqa: N815 - the library's name

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        self._server = _Server(("127.0.0.1", 0), handler or Handler)
        self._server.handle_error = lambda *_: None  # type: ignore[method-assign]  # clients leave early
        self.origin = f"http://127.0.0.1:{self._server.server_address[1]}"
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.02,), daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._server.shutdown()
        self._server.server_close()
        self._thread.join()
