"""One thread that drives all of a command's transfers, through libcurl's multi interface.

Any thread may run a function in the wire's thread (`Wire.do`); everything else belongs to that thread, which
starts, cancels and reports transfers. Callbacks must return quickly and hand long work to another thread.
Transfers beyond a host's limit wait for their turn.
"""

import os
import threading
import time
from collections import deque
from collections.abc import Callable, Mapping
from contextlib import suppress
from heapq import heappop, heappush
from itertools import count
from selectors import EVENT_READ, EVENT_WRITE, DefaultSelector
from typing import NamedTuple

import pycurl

from rabbet import __version__
from rabbet.core.limits import LEAST_SPEED, MOST_SECONDS

__all__ = ["FAULT", "Ended", "Head", "HostTraffic", "Request", "Transfer", "Wire"]

_CONNECT = 15  # seconds
_BUFFER = 1 << 17  # bytes of a piece at most
_KEPT_HANDLES = 64
_FRAIL = 6  # requests at a time to a host that wants a connection for each
_UNPROVEN = 16  # requests at a time to a host that is not known to bear more
_PROVEN = 64  # to one that has answered as many as it was asked at first
_MULTIPLEXED = 100  # to one that speaks HTTP/2, over few connections (RFC 9113, 5.1.2 asks for that many)
_EVENTS = {
    pycurl.POLL_IN: EVENT_READ,
    pycurl.POLL_OUT: EVENT_WRITE,
    pycurl.POLL_INOUT: EVENT_READ | EVENT_WRITE,
}
_AUTHORITIES = (pycurl.CAINFO, pycurl.CAPATH, pycurl.PROXY_CAINFO, pycurl.PROXY_CAPATH)
FAULT = -1  # in place of libcurl's code: the wire itself failed
_LONGEST_TURN = 1.0  # seconds that the thread waits at once


class Request(NamedTuple):
    """One request: `headers` are whole lines; `host` is the one whose turn it takes.

    `packed`: a compressed answer is welcome, and comes unpacked. The `authorities` to trust are a file and a
    folder, each may be empty. The whole answer may take so many `seconds`; 0 for as long as it comes.
    """

    method: str
    address: str
    host: str
    headers: tuple[str, ...] = ()
    packed: bool = False
    proxy: str = ""
    authorities: tuple[str, str] = ("", "")
    seconds: int = 0


class Head(NamedTuple):
    """An answer's status, and its headers by their names in lower case.

    Lines of the same name are joined (RFC 9110, section 5.3).
    """

    status: int
    headers: Mapping[str, str]


class Ended(NamedTuple):
    """How a transfer ended: libcurl's code, 0 if all came, its words, and how many bytes came."""

    code: int
    words: str
    head: Head
    received: int


class HostTraffic(NamedTuple):
    """One host's traffic: the number of `requests`, and of those answered `unchanged` (304).

    `received` are bytes of bodies, unpacked, `slowest` the seconds that the longest exchange took.
    """

    host: str
    requests: int = 0
    unchanged: int = 0
    received: int = 0
    slowest: float = 0.0

    def plus(self, other: "HostTraffic") -> "HostTraffic":
        """The traffic of both, with the same host."""
        return HostTraffic(
            self.host,
            self.requests + other.requests,
            self.unchanged + other.unchanged,
            self.received + other.received,
            max(self.slowest, other.slowest),
        )


class Transfer:
    """One request under way, or waiting for its turn.

    The function to `take` its body gets it piece by piece: what that returns goes to libcurl, which `None`
    tells to go on.
    """

    def __init__(
        self,
        request: Request,
        take: Callable[["Transfer", bytes], int | None],
        ended: Callable[[Ended], None],
    ) -> None:
        self.request = request
        self._take = take
        self.ended = ended
        self.lines: list[bytes] = []
        self.received = 0  # bytes of the body, unpacked
        self.handle: pycurl.Curl | None = None
        self.dropped = False
        self._head: Head | None = None  # once it is complete, which it is when the body begins

    def take(self, piece: bytes) -> int | None:
        """Take a piece of the body."""
        self._head = self.head()
        told = self._take(self, piece)
        self.received += len(piece) if told is None else 0  # what is refused for now comes again
        return told

    def resume(self) -> None:
        """Go on, after the body was made to pause."""
        if self.handle is not None:
            self.handle.pause(pycurl.PAUSE_CONT)

    def head(self) -> Head:
        """The head of the answer, as far as it came; of several, such as one that says to go on, the last."""
        if self._head is not None:
            return self._head
        status = 0
        headers: dict[str, str] = {}
        for line in self.lines:
            name, colon, value = line.decode("latin-1").partition(":")
            if name.startswith("HTTP/"):
                status, headers = _status(name), {}
            elif colon:
                name, value = name.strip().lower(), value.strip()
                headers[name] = f"{headers[name]}, {value}" if name in headers else value
        return Head(status, headers)


_CLOSED = Ended(FAULT, "the connections were closed", Head(0, {}), 0)


def _status(line: str) -> int:
    parts = line.split(None, 2)
    return int(parts[1]) if len(parts) > 1 and parts[1].isdecimal() else 0


class _Host:
    """The limit of concurrent transfers to one host, and the queue of those that wait.

    While the host may support HTTP/2, a request waits for a connection that is being opened, and opens none.
    """

    def __init__(self, name: str, *, shares: bool) -> None:
        self.shares = shares
        self.traffic = HostTraffic(name)
        self.waiting: deque[Transfer] = deque()
        self.under_way = 0
        self.answered = 0
        self.most = _UNPROVEN

    def judge(self, ended: Ended, version: int) -> None:
        """Ask more of a host that answers by this version of HTTP, and keeps its connections.

        Less is asked of one that is too busy or breaks off, and of a small one that wants a new connection
        for each request: so many at once are more than it lets wait.
        """
        multiplexed = version == pycurl.CURL_HTTP_VERSION_2_0
        if ended.head.status:
            self.shares = multiplexed
        closing = ended.head.headers.get("connection", "").lower() == "close"
        if version == pycurl.CURL_HTTP_VERSION_1_0 or (closing and not multiplexed):
            self.answered, self.most = 0, _FRAIL
        elif ended.code or ended.head.status in (429, 503):
            self.answered, self.most = 0, _UNPROVEN
        else:
            self.answered += 1
            if self.answered >= _UNPROVEN:
                self.most = _MULTIPLEXED if multiplexed else _PROVEN


class Wire:
    """The thread, started by the first transfer. `patience`: seconds that an answer may stand still."""

    def __init__(self, patience: float = MOST_SECONDS) -> None:
        self._patience = max(1, round(patience))
        self._inbox: deque[Callable[[], None]] = deque()
        self._guard = threading.Lock()
        self._thread: threading.Thread | None = None
        self._later: list[tuple[float, int, Callable[[], None]]] = []
        self._numbers = count()
        self._hosts: dict[str, _Host] = {}
        self._begun: set[Transfer] = set()
        self._under_way: dict[pycurl.Curl, Transfer] = {}
        self._idle: list[pycurl.Curl] = []
        self._fault: Ended | None = None
        self._closed = False
        self._looked_at = 0.0  # when libcurl was last made to look at all that is under way

    def do(self, action: Callable[[], None]) -> None:
        """Do something in the thread of the wire; for any other thread."""
        with self._guard:
            if not self._closed:
                self._inbox.append(action)
                self._ring()
                return
        action()  # there is no thread any more: what is asked for fails at once, all else does nothing

    def _ring(self) -> None:
        if self._thread is None:
            self._start()
        with suppress(BlockingIOError):  # so many calls wait there already
            os.write(self._doorbell, b"!")

    def close(self) -> None:
        """End the thread and all connections, without waiting for that; what is under way fails."""
        with self._guard:
            was_open, self._closed = not self._closed, True
            if was_open and self._thread is not None:
                self._ring()

    def later(self, seconds: float, action: Callable[[], None]) -> None:
        """Do something in a while."""
        if self._closed:
            action()
            return
        heappush(self._later, (time.monotonic() + seconds, next(self._numbers), action))

    def begin(self, transfer: Transfer) -> None:
        """Send a request, now or when its host's turn comes."""
        refused = _CLOSED if self._closed else self._fault
        if refused is not None:
            transfer.ended(refused)
            return
        self._begun.add(transfer)
        host = self._host(transfer.request)
        host.waiting.append(transfer)
        self._begin_waiting(host)

    def drop(self, transfer: Transfer) -> None:
        """Break a transfer off; nobody is told of its end."""
        transfer.dropped = True
        if self._closed:
            return  # the thread itself gives back what it holds
        self._begun.discard(transfer)
        if transfer.handle is not None:
            self._begin_waiting(self._release(transfer, transfer.handle))

    def resume(self, transfer: Transfer) -> None:
        """Let a transfer go on, after its body was made to pause."""
        if not self._closed:
            transfer.resume()

    def traffic(self) -> tuple[HostTraffic, ...]:
        """The finished requests of each host so far."""
        return tuple(host.traffic for host in tuple(self._hosts.values()))

    def _start(self) -> None:
        bell, self._doorbell = os.pipe()
        os.set_blocking(bell, False)
        os.set_blocking(self._doorbell, False)
        self._selector = DefaultSelector()
        self._selector.register(bell, EVENT_READ)
        self._multi = pycurl.CurlMulti()
        self._multi.setopt(pycurl.M_PIPELINING, pycurl.PIPE_MULTIPLEX)
        self._multi.setopt(pycurl.M_MAXCONNECTS, _PROVEN)
        self._multi.setopt(pycurl.M_SOCKETFUNCTION, self._watch)
        self._thread = threading.Thread(target=self._run, args=(bell,), name="wire", daemon=True)
        self._thread.start()

    def _run(self, bell: int) -> None:
        try:
            while not self._closed:
                self._turn(bell)
        except Exception as error:  # noqa: BLE001 - reported to all waiting callers
            self._fault = Ended(FAULT, f"{type(error).__name__}: {error}", Head(0, {}), 0)
        self._refuse(bell)
        self._release_all(bell)

    def _refuse(self, bell: int) -> None:
        """Until it is closed, let all fail that was asked for, and that will be: nobody waits for ever."""
        for transfer in tuple(self._begun):
            self.begin(transfer)
        self._inbox.extend(action for _, _, action in self._later)
        os.set_blocking(bell, True)
        while True:
            while self._inbox:
                self._inbox.popleft()()
            if self._closed:
                return
            os.read(bell, 4096)

    def _release_all(self, bell: int) -> None:
        """Give back what the thread holds: handles, connections, descriptors."""
        for handle in self._under_way:
            self._multi.remove_handle(handle)
        for handle in (*self._under_way, *self._idle):
            handle.close()
        self._multi.close()
        self._selector.close()
        with self._guard:  # nobody is about to ring
            os.close(bell)
            os.close(self._doorbell)

    def _turn(self, bell: int) -> None:
        """Wait for something to happen, and do what is to be done then."""
        for key, events in self._selector.select(self._until_next()):
            if key.fd == bell:
                with suppress(BlockingIOError):
                    os.read(bell, 4096)
            else:
                self._multi.socket_action(key.fd, _curl_events(events))
        now = time.monotonic()
        if self._multi.timeout() == 0:
            self._multi.socket_action(pycurl.SOCKET_TIMEOUT, 0)
        if now > self._looked_at + _LONGEST_TURN:  # else libcurl notices no answer that has not begun
            for key in tuple(self._selector.get_map().values()):
                if key.fd != bell:
                    self._multi.socket_action(key.fd, 0)
            self._looked_at = now
        while self._later and self._later[0][0] <= now:
            heappop(self._later)[2]()
        self._collect()
        while self._inbox:
            self._inbox.popleft()()

    def _until_next(self) -> float:
        """How many seconds to wait at most for something to happen."""
        if self._inbox:
            return 0
        later = self._later[0][0] - time.monotonic() if self._later else _LONGEST_TURN
        wanted = self._multi.timeout()  # milliseconds; negative: libcurl waits for nothing but its sockets
        return max(0.0, min(_LONGEST_TURN, later, wanted / 1000 if wanted >= 0 else _LONGEST_TURN))

    def _watch(self, what: int, descriptor: int, *_: object) -> None:
        """Called by libcurl: wait for this on a socket, or for nothing any more."""
        known = descriptor in self._selector.get_map()
        if what == pycurl.POLL_REMOVE:
            if known:
                self._selector.unregister(descriptor)
        elif what in _EVENTS:
            (self._selector.modify if known else self._selector.register)(descriptor, _EVENTS[what])

    def _host(self, request: Request) -> _Host:
        if request.host not in self._hosts:
            self._hosts[request.host] = _Host(request.host, shares=request.address.startswith("https"))
        return self._hosts[request.host]

    def _begin_waiting(self, host: _Host) -> None:
        while host.waiting and host.under_way < host.most:
            transfer = host.waiting.popleft()
            if not transfer.dropped:
                host.under_way += 1
                self._send(transfer, shared=host.shares)

    def _send(self, transfer: Transfer, *, shared: bool) -> None:
        handle = self._idle.pop() if self._idle else pycurl.Curl()
        handle.reset()  # nothing of another request may go along with this one
        self._set_usual(handle)
        request = transfer.request
        handle.setopt(pycurl.URL, request.address)
        handle.setopt(pycurl.PIPEWAIT, shared)
        handle.setopt(pycurl.HTTPHEADER, [line.encode("latin-1", "replace") for line in request.headers])
        handle.setopt(pycurl.NOBODY, request.method == "HEAD")
        handle.setopt(pycurl.PROXY, request.proxy.encode())
        handle.setopt(pycurl.TIMEOUT, request.seconds)
        for option, value in zip(_AUTHORITIES, request.authorities * 2, strict=True):
            if value:
                handle.setopt(option, os.fsencode(value))
        if request.packed:
            handle.setopt(pycurl.ACCEPT_ENCODING, "")  # all that this libcurl can unpack
        handle.setopt(pycurl.HEADERFUNCTION, transfer.lines.append)
        handle.setopt(pycurl.WRITEFUNCTION, transfer.take)
        transfer.handle = handle
        self._under_way[handle] = transfer
        self._multi.add_handle(handle)

    def _set_usual(self, handle: pycurl.Curl) -> None:
        """The settings of all requests."""
        handle.setopt(pycurl.NOSIGNAL, 1)
        handle.setopt(pycurl.PROTOCOLS, pycurl.PROTO_HTTP | pycurl.PROTO_HTTPS)
        handle.setopt(pycurl.HTTP_VERSION, pycurl.CURL_HTTP_VERSION_2TLS)
        handle.setopt(pycurl.NOPROXY, "")  # callers choose the proxy
        handle.setopt(pycurl.HEADEROPT, pycurl.HEADER_SEPARATE)  # no credentials to a proxy
        handle.setopt(pycurl.USERAGENT, f"rabbet/{__version__}")
        handle.setopt(pycurl.CONNECTTIMEOUT, _CONNECT)
        handle.setopt(pycurl.LOW_SPEED_LIMIT, LEAST_SPEED)
        handle.setopt(pycurl.LOW_SPEED_TIME, self._patience)
        handle.setopt(pycurl.BUFFERSIZE, _BUFFER)

    def _collect(self) -> None:
        """Report finished transfers to their callers."""
        more = 1
        while more:
            more, whole, broken = self._multi.info_read()
            for handle in whole:
                self._finish(handle, 0, "")
            for handle, code, words in broken:
                self._finish(handle, code, words)

    def _finish(self, handle: pycurl.Curl, code: int, words: str) -> None:
        transfer = self._under_way[handle]
        version = handle.getinfo(pycurl.INFO_HTTP_VERSION)
        seconds = handle.getinfo(pycurl.TOTAL_TIME)
        ended = Ended(code, words, transfer.head(), transfer.received)
        host = self._release(transfer, handle)
        self._begun.discard(transfer)
        host.judge(ended, version)
        traffic = HostTraffic("", 1, int(ended.head.status == 304), ended.received, seconds)
        host.traffic = host.traffic.plus(traffic)
        transfer.ended(ended)
        self._begin_waiting(host)

    def _release(self, transfer: Transfer, handle: pycurl.Curl) -> _Host:
        """Take a transfer that is under way off the wire."""
        host = self._hosts[transfer.request.host]
        self._multi.remove_handle(handle)
        del self._under_way[handle]
        transfer.handle = None
        handle.reset()  # an idle handle must not hold the last answer
        host.under_way -= 1
        if len(self._idle) < _KEPT_HANDLES:
            self._idle.append(handle)
        else:
            handle.close()
        return host


def _curl_events(events: int) -> int:
    readable = pycurl.CSELECT_IN if events & EVENT_READ else 0
    return readable | (pycurl.CSELECT_OUT if events & EVENT_WRITE else 0)
