"""HTTP as sources speak it: who is asked how, how long answers are fresh, and what failures are called."""

import gzip
import socket
import threading
import time
import unittest
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import brotli

from rabbet.errors import SourceFailed
from rabbet.net.http.client import HttpClient
from rabbet.net.http.credentials import Credentials
from rabbet.net.http.headers import fresh_seconds, may_be_kept
from rabbet.net.http.wire import Wire
from tests.support import PATIENCE
from tests.support.hostile import Hostile, Reply

DATE = "Thu, 26 Nov 2026 10:00:00 GMT"
FRESH = [
    ({}, 0),
    ({"cache-control": "max-age=600"}, 600),
    ({"cache-control": 'public, Max-Age="600", immutable'}, 600),
    ({"cache-control": "max-age=600", "age": "100"}, 500),
    ({"cache-control": "max-age=600", "age": "700"}, 0),
    ({"cache-control": "max-age=600, no-cache"}, 0),
    ({"cache-control": "max-age=600, no-store"}, 0),
    ({"cache-control": "s-maxage=600"}, 0),
    ({"cache-control": "max-age=99999999"}, 86_400),
    ({"date": DATE, "expires": "Thu, 26 Nov 2026 10:10:00 GMT"}, 600),
    ({"date": DATE, "expires": "Thu, 26 Nov 2026 10:10:00 GMT", "cache-control": "max-age=5"}, 5),
    ({"date": DATE, "expires": "0"}, 0),
    ({"expires": "Thu, 26 Nov 2026 10:10:00 GMT"}, 0),
    ({"cache-control": "max-age=600", "age": "x" * 9000}, 600),
]


def client(patience: float = 1, **variables: str) -> HttpClient:
    """A client that knows no credentials."""
    return HttpClient(Wire(patience), variables, Credentials((), {}, {}, Path("/nowhere")))


class Freshness(unittest.TestCase):
    """RFC 9111."""

    def test_seconds(self) -> None:
        for headers, seconds in FRESH:
            with self.subTest(headers):
                self.assertEqual(fresh_seconds(headers), seconds)
        self.assertFalse(may_be_kept({"cache-control": "private, No-Store"}))


class Answers(unittest.TestCase):
    """What comes back, and which way it took."""

    def test_compressed(self) -> None:
        """Pages come compressed as the source likes, and unpacked; what can't be unpacked is told."""
        page = b"honey " * 1000
        packed = {"gzip": gzip.compress(page), "br": brotli.compress(page), "identity": page}
        replies = {
            f"/{kind}": Reply(body, headers={"Content-Encoding": kind}) for kind, body in packed.items()
        }
        replies["/wrong"] = Reply(page, headers={"Content-Encoding": "gzip"})
        with Hostile(replies) as server:
            for kind in packed:
                with self.subTest(kind):
                    self.assertEqual(client().get(f"{server.origin}/{kind}").body, page)
            with self.assertRaisesRegex(SourceFailed, "broke off or is not valid"):
                client().get(f"{server.origin}/wrong")

    def test_proxies(self) -> None:
        """A request goes through the proxy that is named for its kind, unless its host is an exception."""
        with Hostile({"http://apiary.example/x": Reply(b"by proxy")}) as proxy:
            asked = client(http_proxy=proxy.origin).get("http://apiary.example/x")
            self.assertEqual(asked.body, b"by proxy")
            replies = {"/x": Reply(b"straight")}
            with Hostile(replies) as server:
                exempt = client(HTTP_PROXY=proxy.origin, no_proxy="127.0.0.1,apiary.example")
                self.assertEqual(exempt.get(f"{server.origin}/x").body, b"straight")
            with self.assertRaises(SourceFailed) as raised:
                client(https_proxy=proxy.origin).get("https://apiary.example/x")
            self.assertIn("the proxy refuses", raised.exception.because[1])
        with self.assertRaises(SourceFailed) as raised:
            client(http_proxy=proxy.origin).get("http://apiary.example/x")
        self.assertIn("the proxy is not there: the connection was refused", raised.exception.because[1])

    def test_odd_addresses(self) -> None:
        """Letters beyond ASCII are sent as the standard wants them."""
        with Hostile({"/n%C3%A9ctar%20x": Reply(b"sweet")}) as server:
            self.assertEqual(client().get(f"{server.origin}/néctar%20x").body, b"sweet")

    def test_files(self) -> None:
        """A large file comes whole, also to somebody who is slow; one that is given up is forgotten."""
        whole = bytes(range(256)) * 80_000
        with Hostile({"/file": Reply(whole)}) as server:
            asking, taken = client(), []
            for piece in asking.stream(f"{server.origin}/file"):
                if len(taken) < 3:
                    time.sleep(0.1)
                taken.append(piece)
            self.assertEqual(b"".join(taken), whole)
            next(given_up := asking.stream(f"{server.origin}/file"))
            given_up.close()
            self.assertEqual(b"".join(asking.stream(f"{server.origin}/file")), whole)


class Handles(unittest.TestCase):
    """What was sent with one request does not go along with the next one."""

    def test_every_request_after_every_other(self) -> None:
        """To two origins, with and without each option: what arrives is what a new client would send."""
        arrived: list[dict[str, str]] = []

        class Noting(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                arrived.append({"method": self.command, "path": self.path, **self.headers})
                self.send_response(200)
                self.send_header("Content-Length", "0")
                self.end_headers()

            do_HEAD = do_GET  # noqa: N815 - the library's name

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        def asking(*origins: str, **variables: str) -> HttpClient:
            named = [f"http://bee:honey@{origins[0].removeprefix('http://')}/"]
            known = Credentials(named, {}, {}, Path("/nowhere"))
            return HttpClient(Wire(5), variables, known)

        with Hostile({}, handler=Noting) as one, Hostile({}, handler=Noting) as two:
            own, other = one.origin, two.origin
            requests = [
                (method, f"{origin}/{number}", headers)
                for origin in (own, other)
                for number, (method, headers) in enumerate(
                    [
                        ("GET", {}),
                        ("HEAD", {}),
                        ("GET", {"Range": "bytes=0-1", "Accept-Encoding": "identity"}),
                        ("GET", {"If-None-Match": '"1"', "Accept": "text/html"}),
                        ("HEAD", {"Accept-Encoding": "identity"}),
                    ]
                )
            ]
            for variables in ({}, {"http_proxy": one.origin}):
                alone = []
                for method, address, headers in requests:
                    asking(own, other, **variables).get(address, headers, method=method)
                    alone.append(arrived.pop())
                one_client = asking(own, other, **variables)
                for first in range(len(requests)):
                    for second in range(len(requests)):
                        for number in (first, second):
                            method, address, headers = requests[number]
                            one_client.get(address, headers, method=method)
                            self.assertEqual(
                                arrived.pop(), alone[number], (requests[first], requests[second])
                            )
                expected = not variables  # a proxy reads what is sent over http
                self.assertEqual({"Authorization" in sent for sent in alone[:5]}, {expected})
                self.assertEqual({"Authorization" in sent for sent in alone[5:]}, {False})


class Failures(unittest.TestCase):
    """Each is told in a sentence of its own."""

    def test_sentences(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as taken:
            closed = taken.getsockname()[1]
        cases = [
            (f"http://127.0.0.1:{closed}/", "can't be reached", "the connection was refused"),
            ("http://hive.invalid/", "can't be reached", "its name is not known to the network"),
            ("http://[", "address is not valid", "its host can't be one"),
            ("ftp://apiary.example/", "can't be asked", "neither http nor https"),
            (self.spoken(b"the bees are asleep\r\n\r\n"), "broke off or is not valid", "does not speak HTTP"),
            (self.spoken(b""), "broke off or is not valid", "closed the connection without an answer"),
            (self.spoken(b"HTTP/1.1 200 OK\r\n" + b"A: b\r\n" * 100_000), "not valid", ""),
            (self.spoken(b"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\n12"), "not valid", "after 2 bytes"),
            (self.spoken(None), "answers too slowly", "less than 1000 bytes a second"),
            (self.spoken(b"").replace("http", "https"), "can't be reached", ""),
        ]
        for address, what, why in cases:
            with self.subTest(address, what=what), self.assertRaises(SourceFailed) as raised:
                client().get(address)
            self.assertIn(what, str(raised.exception))
            self.assertIn(why, raised.exception.because[-1])

    def test_silence(self) -> None:
        """Several that never answer are given up together, each after a second try."""
        address, asking = self.spoken(None), client()
        answers = [asking.begin(f"{address}{number}") for number in range(5)]
        for answer in answers:
            with self.assertRaisesRegex(SourceFailed, "answers too slowly"):
                answer.result(20)

    def test_without_end(self) -> None:
        """Neither what is discarded nor a page goes on for ever, however it comes."""

        class Endless(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                status, _, slow = self.path[1:].partition("-")
                if status == "103":
                    while True:
                        self.wfile.write(b"HTTP/1.1 103 Early Hints\r\nLink: </x>\r\n\r\n")
                self.send_response(int(status))
                if status == "302":
                    self.send_header("Location", "/404" if slow else "/404-slow")
                self.end_headers()
                while True:
                    self.wfile.write(bytes(3000))
                    time.sleep(0.5 if slow else 0)

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        with Hostile({}, handler=Endless) as server:
            asking = HttpClient(Wire(1), {}, Credentials((), {}, {}, Path("/nowhere")), longest=3)
            paths = ("302", "302-slow", "503", "503-slow", "200", "200-slow", "404-slow", "103")
            for answer in [asking.begin(f"{server.origin}/{path}") for path in paths]:
                with self.assertRaises(SourceFailed):
                    answer.result(40)

    def spoken(self, words: bytes | None) -> str:
        """The address of a server that says only this, or holds the line in silence."""
        listening = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listening.close)

        def speak() -> None:
            held = []
            while True:
                try:
                    connected, _ = listening.accept()
                except OSError:
                    return
                held.append(connected)
                if words is not None:
                    connected.recv(1000)
                    connected.sendall(words)
                    connected.close()

        threading.Thread(target=speak, daemon=True).start()
        return f"http://127.0.0.1:{listening.getsockname()[1]}/"


class Closing(unittest.TestCase):
    """What becomes of all that is under way when the connections are closed, and of what comes later."""

    def test_closed(self) -> None:
        """Answers that are awaited fail, a file that was begun breaks off, and nothing is held any more."""
        whole = bytes(1 << 22)
        before = set(threading.enumerate())
        with Hostile({"/file": Reply(whole)}) as server:
            listening = socket.create_server(("127.0.0.1", 0))
            self.addCleanup(listening.close)
            silent = f"http://127.0.0.1:{listening.getsockname()[1]}/"
            for begun in (0, 1, 20):
                wire = Wire(PATIENCE)
                asking = HttpClient(wire, {}, Credentials((), {}, {}, Path("/nowhere")))
                answers = [asking.begin(f"{silent}{number}") for number in range(begun)]
                pieces = asking.stream(f"{server.origin}/file")
                self.assertTrue(next(pieces))
                wire.close()
                wire.close()
                for answer in (*answers, asking.begin(silent)):
                    with self.assertRaises(SourceFailed) as raised:
                        answer.result(PATIENCE)
                    self.assertIn("the connections were closed", raised.exception.because[-1])
                pieces.close()
                for thread in set(threading.enumerate()) - before:
                    if thread.name == "wire":
                        thread.join(PATIENCE)
                        self.assertFalse(thread.is_alive())


class Turns(unittest.TestCase):
    """How much is asked of a host at once."""

    def test_most_at_once(self) -> None:
        """Sixteen things until as many were answered, then sixty-four."""
        arrived, gates = [], [threading.Event(), threading.Event()]

        class Holding(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                arrived.append(self.path)
                gates[len(arrived) > 16].wait(PATIENCE)
                self.send_response(200)
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_: object) -> None:
                """Nothing is printed."""

        with Hostile({}, handler=Holding) as server:
            asking = client(patience=PATIENCE)
            answers = [asking.begin(f"{server.origin}/{number}") for number in range(200)]
            for gate, count in zip(gates, (16, 16 + 64), strict=True):
                deadline = time.monotonic() + PATIENCE
                while len(arrived) < count and time.monotonic() < deadline:
                    time.sleep(0.01)
                time.sleep(0.2)
                self.assertEqual(len(arrived), count, arrived)
                gate.set()
            self.assertEqual({answer.result(PATIENCE).status for answer in answers}, {200})
