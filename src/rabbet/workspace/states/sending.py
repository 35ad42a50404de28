"""The user's settings on sending a project's inventories.

A declaration may ask for it, and it may have come with a clone: it counts once the user has agreed.
"""

import time
from hashlib import sha256

import msgspec
from msgspec import Struct
from msgspec.structs import replace

from rabbet.store.blob_cache import BlobCache
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = ["Sending", "answer", "note_outcome", "sending"]

_LONGEST = 300  # characters of an error


class Sending(Struct, frozen=True, kw_only=True):
    """Whether it was `agreed` to (`None`: nobody was asked yet), and what became of what was sent last.

    It was sent `when`, in seconds since the epoch (0: never), to `where`; `error` says why that failed.
    """

    agreed: bool | None = None
    when: int = 0
    where: str = ""
    error: str = ""


_DECODER = msgspec.json.Decoder(Sending)


def sending(session: Session) -> Sending:
    """The notes about a project."""
    noted = _notes(session.machine).recall(_key(session.project))
    try:
        return _DECODER.decode(noted) if noted else Sending()
    except msgspec.MsgspecError:
        return Sending()


def answer(session: Session, *, agreed: bool | None) -> None:
    """Note what somebody answered; `None` takes an answer back."""
    _note(session, replace(sending(session), agreed=agreed))


def note_outcome(session: Session, *, where: str = "", error: str = "") -> None:
    """Note what became of an inventory that was sent just now."""
    known = sending(session)
    _note(session, replace(known, when=int(time.time()), where=where, error=error[:_LONGEST]))


def _note(session: Session, found: Sending) -> None:
    _notes(session.machine).remember(_key(session.project), msgspec.json.encode(found))


def _notes(machine: Machine) -> BlobCache:
    return BlobCache(machine.environments().folder / "sending")


def _key(project: Project) -> str:
    """A project by its folder; its variants have what they send in common."""
    return sha256(str(project.folder.resolve()).encode(errors="surrogateescape")).hexdigest()
