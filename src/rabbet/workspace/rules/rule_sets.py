"""Which rules count for a project here: its own, those of files that it shares, and the user's."""

import hashlib
import time
from collections.abc import Iterator
from pathlib import Path

import msgspec
from msgspec import Struct

from rabbet.core.limits import MOST_BY_HAND, UNREADABLE
from rabbet.core.rules.model import RuleSet, shared_rules
from rabbet.disk.named import path_named
from rabbet.disk.text_file import read_text
from rabbet.errors import SourceFailed
from rabbet.formats.project.rules_table import read_shared_rules
from rabbet.formats.text.address import is_address, parse_address
from rabbet.net.http.client import HttpClient
from rabbet.net.local_file import local_path
from rabbet.workspace.fetching.opening import open_client
from rabbet.workspace.rules.state import ASKED_AGAIN
from rabbet.workspace.session import Session

__all__ = [
    "KNOWN",
    "Look",
    "PlacedRules",
    "absolute_place",
    "are_rules_stated",
    "client_for",
    "rules_of",
]


class Look(Struct, frozen=True):
    """How far a command may go: `anew` asks what changed since; else what is known does, as far as it is.

    Without `network` nothing is fetched at all.
    """

    anew: bool = False
    network: bool = True


class PlacedRules(Struct, frozen=True, kw_only=True):
    """A set of rules, and the folder that relative places in it are seen from.

    `digest` is that of the shared file's content, `None` for rules that are in no shared file. Those of the
    user are not the project's `own`: they count here, and no lock tells of them.
    """

    rules: RuleSet
    folder: Path
    digest: str | None = None
    own: bool = True


class _Kept(Struct, array_like=True):
    etag: str
    checked: float
    text: str


_KEPT = msgspec.msgpack.Decoder(_Kept)


KNOWN = Look(network=False)
"""For commands that ask no network: what this machine knows will do."""


def are_rules_stated(session: Session) -> bool:
    """Whether any rule counts here. Raises `NotUnderstood`."""
    return session.declaration().rules is not None or _users_rules(session) is not None


def _users_rules(session: Session) -> RuleSet | None:
    path = session.machine.settings_file()
    return session.machine.settings().rules if path.is_file() else None


def rules_of(session: Session, look: Look) -> tuple[PlacedRules, ...]:
    """All sets of rules that count, the project's first. Raises `NotUnderstood`, `SourceFailed`."""
    return tuple(_rules(session, look))


def _rules(session: Session, look: Look) -> Iterator[PlacedRules]:
    stated = (
        (session.declaration().rules, session.project.folder, True),
        (_users_rules(session), session.machine.settings_file().parent, False),
    )
    for own, folder, is_own in stated:
        if own is None:
            continue
        yield PlacedRules(rules=own, folder=folder, own=is_own)
        if own.shared:
            text, below = _shared_text(session, own.shared, folder, look)
            digest = f"sha256:{hashlib.sha256(text.encode()).hexdigest()}"
            shared = read_shared_rules(text, shown_place(own.shared))
            yield PlacedRules(rules=shared_rules(shared, own), folder=below, digest=digest, own=is_own)


def _shared_text(session: Session, place: str, folder: Path, look: Look) -> tuple[str, Path]:
    """A shared file's content, and the folder that its relative places are seen from."""
    address = absolute_place(place, folder)
    path = local_path(address) if is_address(address) else Path(address)
    if path is not None:
        if not path.is_file():
            raise SourceFailed("the shared rules are not there", because=[str(path)])
        return read_text(path, by_hand=True), path.parent
    return _asked_text(session, address, look), folder


def _asked_text(session: Session, address: str, look: Look) -> str:
    memory, shown = session.machine.memory("rules"), shown_place(address)
    key = hashlib.sha256(address.encode()).hexdigest()
    try:
        kept = _KEPT.decode(memory.recall(key) or b"")
    except (msgspec.MsgspecError, *UNREADABLE):
        kept = None
    machine = session.machine
    due = kept is None or (
        look.anew and not machine.offline and _is_due(kept.checked, machine.fresh_listings)
    )
    if not due and kept is not None:
        return kept.text
    if machine.offline or not look.network:
        raise SourceFailed(
            "the shared rules are not known on this machine yet",
            because=[shown, "no network is asked now"],
            remedy="rabbet rules",
        )
    session.observer.stage("asking for the shared rules")
    headers = {"If-None-Match": kept.etag} if kept and kept.etag else {}
    answer = client_for(session).get(address, headers)
    if answer.status == 304 and kept is not None:
        text, etag = kept.text, kept.etag
    elif answer.status == 200 and len(answer.body) <= MOST_BY_HAND:
        text, etag = answer.body.decode("utf-8", "replace"), answer.headers.get("etag", "")
    else:
        raise SourceFailed(
            "the shared rules can't be fetched",
            because=[shown, f"the answer has the status {answer.status} and {len(answer.body)} bytes"],
        )
    memory.remember(key, msgspec.msgpack.encode(_Kept(etag, time.time(), text)))
    return text


def _is_due(checked: float, fresh: bool) -> bool:  # noqa: FBT001 - both say when
    return fresh or not 0 <= time.time() - checked < ASKED_AGAIN


def client_for(session: Session) -> HttpClient:
    """A client with the project's credentials."""
    return open_client(session.declaration(), session.machine)


def shown_place(place: str) -> str:
    """A place without credentials."""
    return parse_address(place).text if is_address(place) else place


def absolute_place(place: str, folder: Path) -> str:
    """An address as it is sent, or the path of a file or folder."""
    if is_address(place):
        address = parse_address(place)
        return place if address.scheme in ("http", "https") else address.text
    return str(path_named(place, folder))
