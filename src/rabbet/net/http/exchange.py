"""One question to a source, until there is an answer: tried again after a pause, led on by redirects.

All of it happens in the thread of the wire, which goes on with others meanwhile.
"""

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Protocol

import pycurl

from rabbet.core.limits import LONGEST_WAIT, MOST_DISCARDED
from rabbet.errors import RabbetError, SourceFailed
from rabbet.formats.text.address import Address, NotAnAddress, joined, shown
from rabbet.net.http.failures import failure, is_passing
from rabbet.net.http.headers import moment_in
from rabbet.net.http.wire import Ended, Head, Request, Transfer, Wire

__all__ = ["Exchange", "Sink", "not_an_address"]

_MOST_REDIRECTS = 8
_PAUSES = (1.2, 0.6, 0.0)  # seconds before a try, by how many are left after it, where no pause is asked for
_ENOUGH = -1  # tells libcurl to break off
_COST_OF_STALLING = 2  # tries: each takes long
_BUSY = (429, 502, 503, 504)
_REDIRECTS = (301, 302, 303, 307, 308)


class Sink(Protocol):
    """Where an answer goes; all of it is told in the thread of the wire."""

    def restart(self) -> bool:
        """Forget the pieces that came, for all of them come again; `False` where they can't be forgotten."""

    def take(self, transfer: Transfer, piece: bytes) -> int | None:
        """Take a piece of an answer; what it returns is for libcurl."""

    def whole(self, address: Address, head: Head) -> None:
        """All of the answer came, from this address."""

    def failed(self, error: Exception) -> None:
        """There will be no answer."""


class Exchange:
    """A question under way. `prepare` gives the request for an address, with what only that may get."""

    def __init__(
        self,
        wire: Wire,
        prepare: Callable[[Address], Request],
        address: Address,
        sink: Sink,
    ) -> None:
        self._wire = wire
        self._prepare = prepare
        self._address = address
        self._sink = sink
        self._tries = len(_PAUSES)  # that are left after this one
        self._redirects = 0
        self._transfer: Transfer | None = None
        self._dropped = False

    def begin(self) -> None:
        """Ask."""
        self._wire.do(self._ask)

    def resume(self) -> None:
        """Let the answer go on, after the sink made it pause."""
        self._wire.do(self._resume)

    def drop(self) -> None:
        """Break it off; the sink is told nothing more."""
        self._wire.do(self._drop)

    def _resume(self) -> None:
        if self._transfer is not None:
            self._wire.resume(self._transfer)

    def _drop(self) -> None:
        self._dropped = True
        if self._transfer is not None:
            self._wire.drop(self._transfer)

    def _ask(self) -> None:
        if self._dropped:
            return
        try:
            self._transfer = Transfer(self._prepare(self._address), self._take, self._ended)
        except (RabbetError, OSError) as error:
            self._sink.failed(error)
            return
        self._wire.begin(self._transfer)

    def _take(self, transfer: Transfer, piece: bytes) -> int | None:
        if self._counts(transfer.head().status):
            return self._sink.take(transfer, piece)
        return None if transfer.received < MOST_DISCARDED else _ENOUGH

    def _counts(self, status: int) -> bool:
        """Whether an answer with this status goes to the sink, rather than being discarded."""
        return status not in _REDIRECTS and not (status in _BUSY and self._tries)

    def _ended(self, ended: Ended) -> None:
        try:
            self._go_on(ended)
        except Exception as error:  # noqa: BLE001 - else the caller would wait for ever
            self._sink.failed(error)

    def _go_on(self, ended: Ended) -> None:
        """Take the next step, or tell the sink that this was the last."""
        status, location = ended.head.status, ended.head.headers.get("location", "")
        cost = _COST_OF_STALLING if ended.code == pycurl.E_OPERATION_TIMEDOUT else 1
        cut_short = ended.code == pycurl.E_WRITE_ERROR and not self._counts(status)  # by ourselves
        if ended.code and not cut_short:
            if self._tries >= cost and is_passing(ended) and self._sink.restart():
                self._tries -= cost
                self._wire.later(_PAUSES[self._tries], self._ask)
            else:
                self._sink.failed(self._failure(ended))
        elif status in _BUSY and self._tries:
            self._tries -= 1
            asked_for = _retry_after(ended.head.headers)
            self._wire.later(_PAUSES[self._tries] if asked_for is None else asked_for, self._ask)
        elif status in _REDIRECTS and location:
            self._follow(location)
        else:
            self._sink.whole(self._address, ended.head)

    def _failure(self, ended: Ended) -> SourceFailed:
        proxied = self._transfer is not None and bool(self._transfer.request.proxy)
        return failure(self._address.text, ended, proxied=proxied)

    def _follow(self, location: str) -> None:
        """Ask where a redirect leads: from https to https only, else to http and https."""
        asked = self._address
        self._redirects += 1
        if self._redirects > _MOST_REDIRECTS:
            raise SourceFailed(
                "a source can't be reached",
                because=[asked.text, f"it redirects more than {_MOST_REDIRECTS} times"],
                note="check the source's address in pyproject.toml",
            )
        try:
            following = joined(asked.text, location)
        except NotAnAddress as error:
            raise not_an_address(asked.text, error) from error
        allowed = ("https",) if asked.scheme == "https" else ("http", "https")
        if following.scheme not in allowed:
            raise SourceFailed(
                f"a source redirects from {asked.scheme} to an unsupported address",
                because=[
                    f"{asked.text} → {following.text}",
                    "from https it may lead to https only, else to http too",
                ],
            )
        self._address = following._replace(credentials="")
        self._ask()


def not_an_address(text: str, error: NotAnAddress) -> SourceFailed:
    """The failure for what can't be asked."""
    return SourceFailed("a source's address is not valid", because=[shown(text), str(error)])


def _retry_after(headers: Mapping[str, str]) -> float | None:
    """The seconds that a source asks to wait, within bounds (RFC 9110, section 10.2.3)."""
    text = headers.get("retry-after", "")
    if text.isdecimal():
        return min(int(text[:9]), LONGEST_WAIT)
    moment = moment_in(text)
    return min(max(0.0, (moment - datetime.now(UTC)).total_seconds()), LONGEST_WAIT) if moment else None
