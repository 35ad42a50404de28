"""HTTP/2 before a server that speaks HTTP/1.1: each stream is sent on as a request of its own.

What the server breaks off, the stream breaks off as well (RFC 9113, section 8.1).
"""

import http.client
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import suppress
from typing import Self

import trustme
from h2.config import H2Configuration
from h2.connection import H2Connection
from h2.errors import ErrorCodes
from h2.events import RequestReceived, StreamEnded, StreamReset
from h2.exceptions import ProtocolError

_OWN = ("connection", "transfer-encoding", "keep-alive")  # headers of HTTP/1.1 itself


class Http2Front:
    """Serves over TLS until it is closed; `streams` counts the requests of each connection."""

    def __init__(self, port: int, authority: trustme.CA) -> None:
        self._behind = port
        self.streams: list[int] = []
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        authority.issue_cert("127.0.0.1").configure_cert(context)
        context.set_alpn_protocols(["h2"])
        self._context = context
        self._listening = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.origin = f"https://127.0.0.1:{self._listening.getsockname()[1]}"

    def __enter__(self) -> Self:
        threading.Thread(target=self._accept, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._listening.close()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                connected, _ = self._listening.accept()
                connected.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                threading.Thread(target=self._speak, args=(connected,), daemon=True).start()

    def _speak(self, connected: socket.socket) -> None:
        with suppress(OSError), self._context.wrap_socket(connected, server_side=True) as protected:
            number = len(self.streams)
            self.streams.append(0)
            connection = _Connection(protected)
            for headers, stream in connection.requests():
                self.streams[number] += 1
                threading.Thread(target=self._answer, args=(connection, headers, stream), daemon=True).start()

    def _answer(self, connection: "_Connection", headers: dict[str, str], stream: int) -> None:
        behind = http.client.HTTPConnection("127.0.0.1", self._behind)
        sent = {name: value for name, value in headers.items() if not name.startswith(":")}
        with suppress(OSError, ProtocolError):
            try:
                behind.request(headers[":method"], headers[":path"], headers=sent)
                answer = behind.getresponse()
                told = [(name.lower(), value) for name, value in answer.getheaders()]
                told = [(":status", str(answer.status)), *((k, v) for k, v in told if k not in _OWN)]
                connection.send_head(stream, told)
                while piece := answer.read1(1 << 16):
                    connection.send_piece(stream, piece)
                if answer.length:
                    connection.break_off(stream)
                else:
                    connection.end(stream)
            except http.client.HTTPException:
                connection.break_off(stream)
            finally:
                behind.close()


class _Connection:
    """One connection: reads requests in one thread, and is written to by several."""

    def __init__(self, protected: ssl.SSLSocket) -> None:
        self._socket = protected
        self._state = H2Connection(H2Configuration(client_side=False, header_encoding="utf-8"))
        self._changed = threading.Condition()
        self._gone: set[int] = set()
        with self._changed:
            self._state.initiate_connection()
            self._flush()

    def requests(self) -> Iterator[tuple[dict[str, str], int]]:
        """The headers of each request as it comes, and the number of its stream."""
        headers: dict[int, dict[str, str]] = {}
        while received := self._socket.recv(1 << 16):
            with self._changed:
                events = self._state.receive_data(received)
                self._flush()
                self._gone |= {event.stream_id for event in events if isinstance(event, StreamReset)}
                self._changed.notify_all()
            for event in events:
                if isinstance(event, RequestReceived):
                    headers[event.stream_id] = dict(event.headers)
                elif isinstance(event, StreamEnded):
                    yield headers[event.stream_id], event.stream_id

    def send_head(self, stream: int, headers: list[tuple[str, str]]) -> None:
        """Send an answer's head."""
        with self._changed:
            self._state.send_headers(stream, headers)
            self._flush()

    def send_piece(self, stream: int, piece: bytes) -> None:
        """Send a piece of its body, as much at a time as the other side takes (RFC 9113, section 5.2)."""
        while piece:
            with self._changed:
                while stream not in self._gone and not self._state.local_flow_control_window(stream):
                    self._changed.wait(1)
                if stream in self._gone:
                    raise OSError(stream)
                most = self._state.local_flow_control_window(stream)
                size = min(len(piece), most, self._state.max_outbound_frame_size)
                self._state.send_data(stream, piece[:size])
                self._flush()
            piece = piece[size:]

    def end(self, stream: int) -> None:
        """The answer is whole."""
        with self._changed:
            self._state.end_stream(stream)
            self._flush()

    def break_off(self, stream: int) -> None:
        """There will be no more of it."""
        with self._changed:
            self._state.reset_stream(stream, ErrorCodes.INTERNAL_ERROR)
            self._flush()

    def _flush(self) -> None:
        self._socket.sendall(self._state.data_to_send())
