"""A stand-in for an index: the simple repository API over HTTP on the loopback address, with fault switches.

It serves JSON (PEP 691, 700) or HTML (PEP 503), metadata files (PEP 658) and byte ranges, each of which can
be switched off. Faults are for tests: they make an address answer as a broken source would.
"""

import base64
import hashlib
import html
import json
import ssl
import threading
import time
import zlib
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, MutableMapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from functools import cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import TracebackType
from typing import ClassVar, Self

from msgspec import Struct, field
from msgspec.structs import replace

from rabbet.core.needs.names import library_name
from rabbet.demo.files import build_file, metadata_of
from rabbet.demo.libraries import RELEASES, MadeUp

__all__ = ["Fault", "Manner", "StandIn"]

_FIRST_DAY = datetime(2025, 1, 10, 12, tzinfo=UTC)  # on which each library's first release was uploaded
_PACE = timedelta(days=60)  # from one release to the next
_JSON = "application/vnd.pypi.simple.v1+json"


class Fault(StrEnum):
    """A fault that the stand-in plays at an address."""

    MISSING = "answers 404"
    BROKEN = "answers 500"
    HALF = "sends half a body"
    HALF_ONCE = "sends half a body the first time"
    TRICKLE = "sends a body slowly"
    OTHER_HALF = "sends half a body the first time, then ranges of another file"
    SHORTER = "sends the file without its last byte"
    LONGER = "sends the file with more behind it"
    NONSENSE = "sends something else"
    OTHER_CONTENT = "sends the file with one byte changed"
    SLOW = "never finishes"
    BUSY = "answers 503 the first time, then 429"
    CROWDED = "answers 429 the first time"
    LOOP = "redirects to itself"
    BOMB = "sends a small body that unpacks to a huge one"
    DEEP = "sends JSON that is nested very deep"
    OTHER_KIND = "sends the right page under a wrong type"
    FORBIDDEN = "answers 403"
    HUGE = "sends a page of 250 MB"
    CHANGING = "lists no newest release from the second request on"
    LYING = "sends, and lists, metadata without the file's needs"
    UNPROTECTED = "redirects to an address without TLS"


_STATUSES = {Fault.MISSING: 404, Fault.FORBIDDEN: 403, Fault.BROKEN: 500}
_PATIENCE: Mapping[Fault | None, Sequence[int]] = {Fault.BUSY: (503, 429), Fault.CROWDED: (429,)}
_HALF_FIRST = (Fault.HALF_ONCE, Fault.OTHER_HALF)
_CHANGES: Mapping[Fault | None, Callable[[bytes], bytes]] = {
    Fault.OTHER_CONTENT: lambda body: body[:-1] + bytes([body[-1] ^ 1]),
    Fault.SHORTER: lambda body: body[:-1],
    Fault.LONGER: lambda body: body + bytes(1_000_000),
}


class Manner(Struct, frozen=True, kw_only=True):
    """How the index serves, and what fails at which path; `password` is `user:password`, if it wants one.

    Pages carry a tag (`ETag`), if `tagged`, and are fresh for `max_age` seconds (`None`: nobody says); they
    list files with a digest of the algorithm `hashes` (empty: without). Every answer comes `latency` seconds
    late.
    """

    json: bool = True
    metadata_files: bool = True
    ranges: bool = True
    tagged: bool = True
    password: str = ""
    max_age: int | None = 0
    hashes: str = "sha256"
    latency: float = 0.0
    faults: MutableMapping[str, Fault] = field(default_factory=dict)


class StandIn:
    """The index, serving from a thread of its own until it is closed; `requests` lists what was asked.

    `more` are contents of further paths, such as a catalogue of runtimes. With `tls` it speaks https.
    """

    def __init__(
        self,
        releases: Iterable[MadeUp] = RELEASES,
        *,
        manner: Manner | None = None,
        more: Mapping[str, bytes] | None = None,
        port: int = 0,
        tls: ssl.SSLContext | None = None,
    ) -> None:
        self.requests: list[str] = []
        self._scheme = "https" if tls else "http"
        self._server = _Server(("127.0.0.1", port), tuple(releases), manner or Manner(), self.requests)
        self._server.files.update(more or {})
        if tls is not None:
            self._server.socket = tls.wrap_socket(self._server.socket, server_side=True)
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True)

    @property
    def port(self) -> int:
        """The port that it listens on."""
        return int(self._server.server_address[1])

    @property
    def address(self) -> str:
        """The index's address."""
        return f"{self._scheme}://127.0.0.1:{self.port}/simple/"

    def wait(self) -> None:
        """Serve on until the user interrupts."""
        self._thread.join()

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._server.closing.set()
        self._server.shutdown()
        self._server.server_close()
        self._thread.join()


class _Server(ThreadingHTTPServer):
    """Holds what is served."""

    daemon_threads = True
    block_on_close = False
    request_queue_size = 128  # else what asks for many things at once waits a second for a connection

    def __init__(
        self, address: tuple[str, int], releases: tuple[MadeUp, ...], manner: Manner, requests: list[str]
    ) -> None:
        self.manner = manner
        self.requests = requests
        self._guard = threading.Lock()
        self._times: Counter[str] = Counter()
        self.closing = threading.Event()
        self.files = {f"/files/{release.filename}": build_file(release) for release in releases}
        self.by_metadata_path = {f"/files/{release.filename}.metadata": release for release in releases}
        self.by_name: dict[str, list[MadeUp]] = {}
        for release in releases:
            self.by_name.setdefault(library_name(release.name), []).append(release)
        super().__init__(address, _Handler)

    def note(self, method: str, path: str) -> int:
        """Note a request; how many times the path's content was asked for by now."""
        with self._guard:
            self.requests.append(f"{method} {path}")
            self._times[path] += method == "GET"
            return self._times[path]

    def metadata_file(self, release: MadeUp) -> bytes:
        """The metadata file beside a release's file."""
        if self.manner.faults.get(f"/files/{release.filename}.metadata") is Fault.LYING:
            release = replace(release, needs=())
        return metadata_of(release).encode()

    def handle_error(self, request: object, client_address: object) -> None:
        """Ignore clients that disconnected or reject the certificate."""


class _Handler(BaseHTTPRequestHandler):
    """Answers one request."""

    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True  # else an answer's body can wait 40 ms for the asker's acknowledgement
    server: _Server
    _KINDS: ClassVar[Mapping[bool, str]] = {True: _JSON, False: "text/html; charset=utf-8"}

    def do_GET(self) -> None:
        """Answer with a body."""
        self._answer(with_body=True)

    def do_HEAD(self) -> None:
        """Answer without a body."""
        self._answer(with_body=False)

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 - the name is the library's
        """Keep quiet: the requests are listed."""

    def _answer(self, *, with_body: bool) -> None:
        times = self.server.note(self.command, self.path)
        if self.server.manner.latency:
            time.sleep(self.server.manner.latency)
        if not self._is_welcome():
            self._send(401, b"", "text/plain", with_body=with_body)
            return
        fault = self.server.manner.faults.get(self.path)
        if fault in _STATUSES:
            self._send(_STATUSES[fault], b"", "text/plain", with_body=with_body)
            return
        if fault in (Fault.LOOP, Fault.BOMB, Fault.DEEP, Fault.HUGE, Fault.UNPROTECTED):
            self._send_hostile(fault)
            return
        refusals = _PATIENCE.get(fault, ())
        if 0 < times <= len(refusals):
            self._send(refusals[times - 1], b"", "text/plain", with_body=with_body)
            return
        self._send_content(fault, times, with_body=with_body)

    def _send_content(self, fault: Fault | None, times: int, *, with_body: bool) -> None:
        """Send what lies at the path, asked for so many times now, or something in its place."""
        body, kind = self._content(times)
        if body is None:
            self._send(404, b"not here", "text/plain", with_body=with_body)
        elif fault is Fault.NONSENSE:
            self._send(200, b"the bees are asleep", "text/plain", with_body=with_body)
        elif fault is Fault.OTHER_KIND:
            self._send(200, body, "text/html", with_body=with_body)
        elif fault in _CHANGES:
            self._send(200, _CHANGES[fault](body), kind, with_body=with_body)
        elif fault in (Fault.HALF, Fault.SLOW) or (fault in _HALF_FIRST and times == 1):
            self._send_half(body, kind, hang=fault is Fault.SLOW)
        elif fault is Fault.TRICKLE:
            self._trickle(body, kind)
        elif fault is Fault.OTHER_HALF:
            self._send_range_or_all(bytes(byte ^ 1 for byte in body), kind, with_body=with_body)
        else:
            self._send_range_or_all(body, kind, with_body=with_body)

    def _is_welcome(self) -> bool:
        wanted = self.server.manner.password
        given = self.headers.get("Authorization", "")
        return not wanted or given == "Basic " + base64.b64encode(wanted.encode()).decode()

    def _content(self, times: int) -> tuple[bytes | None, str]:
        if self.path in self.server.files:
            return self.server.files[self.path], "application/octet-stream"
        described = self.server.by_metadata_path.get(self.path)
        if described and self.server.manner.metadata_files:
            return self.server.metadata_file(described), "application/octet-stream"
        if self.path == "/simple/":
            return self._front_page(), self._KINDS[self.server.manner.json]
        name = self.path.removeprefix("/simple/").rstrip("/")
        if self.path.startswith("/simple/") and name in self.server.by_name:
            return self._page(name, times), self._KINDS[self.server.manner.json]
        return None, ""

    def _front_page(self) -> bytes:
        names = sorted(self.server.by_name)
        if self.server.manner.json:
            return json.dumps(
                {"meta": {"api-version": "1.1"}, "projects": [{"name": n} for n in names]}
            ).encode()
        links = "".join(f'<a href="/simple/{name}/">{name}</a>' for name in names)
        return f"<!DOCTYPE html><html><body>{links}</body></html>".encode()

    def _page(self, name: str, times: int) -> bytes:
        offered = self.server.by_name[name]
        changing = self.server.manner.faults.get(self.path) is Fault.CHANGING
        if changing and times > 1:
            offered = offered[:-1]
        releases = enumerate(offered)
        files = [self._file(release, _FIRST_DAY + number * _PACE) for number, release in releases]
        if self.server.manner.json:
            versions = [release.version for release in offered]
            page = {"meta": {"api-version": "1.1"}, "name": name, "versions": versions, "files": files}
            return json.dumps(page).encode()
        return ("<!DOCTYPE html><html><body>" + "".join(map(_link, files)) + "</body></html>").encode()

    def _file(self, release: MadeUp, uploaded: datetime) -> dict[str, object]:
        beside = _digest_of(self.server.metadata_file(release))
        algorithm = self.server.manner.hashes
        return {
            "filename": release.filename,
            "url": f"../../files/{release.filename}",
            "hashes": {algorithm: _digest(release, algorithm)} if algorithm else {},
            "size": len(build_file(release)),
            "upload-time": uploaded.isoformat().replace("+00:00", "Z"),
            "requires-python": release.python,
            "yanked": release.yanked or False,
            "core-metadata": {"sha256": beside} if self.server.manner.metadata_files else False,
        }

    def _send_range_or_all(self, body: bytes, kind: str, *, with_body: bool) -> None:
        tag = f'"{hashlib.sha256(body).hexdigest()[:16]}"'
        if self.headers.get("If-None-Match") == tag:
            self._send(304, b"", kind, with_body=False, tag=tag)
            return
        wanted = self.headers.get("Range", "")
        if not wanted.startswith("bytes=") or not self.server.manner.ranges:
            self._send(200, body, kind, with_body=with_body, tag=tag)
            return
        first, _, last = wanted.removeprefix("bytes=").partition("-")
        start, end = int(first), min(int(last) + 1 if last else len(body), len(body))
        span = f"bytes {start}-{end - 1}/{len(body)}"
        self._send(206, body[start:end], kind, with_body=with_body, span=span)

    def _send(
        self, status: int, body: bytes, kind: str, *, with_body: bool, span: str = "", tag: str = ""
    ) -> None:
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        if self.server.manner.ranges:
            self.send_header("Accept-Ranges", "bytes")
        if tag and self.server.manner.tagged:
            self.send_header("ETag", tag)
            if self.server.manner.max_age is not None:
                self.send_header("Cache-Control", f"max-age={self.server.manner.max_age}")
        if span:
            self.send_header("Content-Range", span)
        self.end_headers()
        if with_body:
            self.wfile.write(body)

    def _send_hostile(self, fault: Fault) -> None:
        body = b"" if fault in (Fault.LOOP, Fault.UNPROTECTED) else b"[" * 1_000_000
        if fault is Fault.HUGE:
            body = b" " * 250_000_000
        if fault is Fault.BOMB:
            packer = zlib.compressobj(wbits=31)
            body = b"".join(packer.compress(bytes(1 << 20)) for _ in range(220)) + packer.flush()
        self.send_response(200 if body else 302)
        self.send_header("Content-Type", _JSON)
        self.send_header("Content-Length", str(len(body)))
        if fault is Fault.LOOP:
            self.send_header("Location", self.path)
        if fault is Fault.UNPROTECTED:
            self.send_header("Location", f"http://127.0.0.1:9{self.path}")
        if fault is Fault.BOMB:
            self.send_header("Content-Encoding", "gzip")
        self.end_headers()
        with suppress(OSError):  # the asker may have gone
            self.wfile.write(body)

    def _trickle(self, body: bytes, kind: str) -> None:
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        for start in range(0, len(body), 1 + len(body) // 10):
            self.wfile.write(body[start : start + 1 + len(body) // 10])
            self.wfile.flush()
            time.sleep(0.1)

    def _send_half(self, body: bytes, kind: str, *, hang: bool) -> None:
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body[: len(body) // 2])
        self.wfile.flush()
        if hang:
            self.server.closing.wait(60)
        self.close_connection = True


@cache
def _digest_of(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


@cache
def _digest(release: MadeUp, algorithm: str) -> str:
    return hashlib.new(algorithm, build_file(release)).hexdigest()


def _link(file: Mapping[str, object]) -> str:
    """A file's entry on an HTML page."""
    hashes, metadata = file["hashes"], file["core-metadata"]
    digest = "".join(f"#{key}={value}" for key, value in hashes.items()) if isinstance(hashes, dict) else ""
    attributes = f' data-requires-python="{html.escape(str(file["requires-python"]))}"'
    if file["yanked"]:
        attributes += f' data-yanked="{html.escape(str(file["yanked"]))}"'
    if isinstance(metadata, dict):
        attributes += f' data-core-metadata="sha256={metadata["sha256"]}"'
    return f'<a href="{file["url"]}{digest}"{attributes}>{file["filename"]}</a>\n'
