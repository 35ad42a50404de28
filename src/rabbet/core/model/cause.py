"""Why a finding is one, where its kind does not say it: a plain reason, or one with facts of its own."""

from enum import StrEnum
from typing import ClassVar

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.lock import Selection

__all__ = [
    "ByHand",
    "Cause",
    "Installation",
    "InterpreterChanged",
    "LeftOut",
    "MadeForSections",
    "Reason",
    "ReasonWith",
    "RuleBroken",
    "SecondCopy",
    "Shadow",
    "Unchecked",
    "reason_of",
]


class Reason(StrEnum):
    """A cause by its name, as the JSON documents tell it."""

    BY_HAND = "by-hand"
    SECOND_COPY = "second-copy"
    UNFINISHED = "unfinished"
    UNRECORDED = "unrecorded"
    START_UP = "start-up"
    NO_METADATA = "no-metadata"
    NO_RECORD = "no-record"
    COMPILED_LATER = "compiled-later"
    SHADOWED = "shadowed"
    REMOVED = "removed"
    OTHER_LOCK = "other-lock"
    OTHER_SECTIONS = "other-sections"
    NOT_MADE_HERE = "not-made-here"
    EDITED_LOCK = "edited-lock"
    DECLARATION_CHANGED = "declaration-changed"
    EXPORTED = "exported"
    KERNEL_LOST = "kernel-lost"
    YANKED = "yanked"
    OBTAINABLE = "obtainable"
    NONE_FITS = "none-fits"
    MADE_WITH = "made-with"
    OTHER_LINKED = "other-linked"
    NOT_LINKED = "not-linked"
    NOT_DECLARED = "not-declared"
    BUILT_OTHERWISE = "built-otherwise"
    PERMISSIONS = "permissions"
    NOT_A_FOLDER = "not-a-folder"
    IS_A_LINK = "is-a-link"
    OWN_FILE_ALTERED = "own-file-altered"
    OWN_FILE_GONE = "own-file-gone"
    INTERPRETER_GONE = "interpreter-gone"
    INTERPRETER_UNKNOWN = "interpreter-unknown"
    INTERPRETER_REFUSED = "interpreter-refused"
    INTERPRETER_CHANGED = "interpreter-changed"
    LEFT_OUT = "left-out"
    NOT_ON_SYSTEM = "not-on-system"
    SYSTEM_UNKNOWN = "system-unknown"
    RULE_BROKEN = "rule-broken"
    RULES_UNKNOWN = "rules-unknown"
    NOT_EXPECTED = "not-expected"


class Installation(Struct, frozen=True, kw_only=True):
    """How a library was installed, as its own files tell: by what, and when (seconds since the epoch).

    It was `requested` if somebody asked for it by name. Its `origin` is an address, where no source lists it.
    """

    installer: str = ""
    since: float | None = None
    requested: bool = False
    origin: str = ""


class ByHand(Struct, frozen=True, kw_only=True):
    """Something else than Rabbet installed it.

    `needed_by` are the libraries that need it, among those that came in the same way; Python reads the files
    in `start_up` whenever it starts.
    """

    reason: ClassVar = Reason.BY_HAND

    installation: Installation
    needed_by: tuple[str, ...] = ()
    start_up: tuple[str, ...] = ()


class SecondCopy(Struct, frozen=True, kw_only=True):
    """The library is installed more than once; `installation` is `None` for a copy that Rabbet installed."""

    reason: ClassVar = Reason.SECOND_COPY

    installation: Installation | None


class ReasonWith(Struct, frozen=True):
    """A reason with a text that belongs to it: a place, a name, or what a source or a program said."""

    reason: Reason
    text: str


class Unchecked(Struct, frozen=True, kw_only=True):
    """Files of these libraries can't be checked: there is no record of them, or Python wrote them later."""

    reason: Reason
    libraries: tuple[NormalizedName, ...]


class MadeForSections(Struct, frozen=True, kw_only=True):
    """The environment was made for the `chosen` groups and extras, which are not all of the lock's."""

    reason: ClassVar = Reason.OTHER_SECTIONS

    chosen: Selection
    locked: Selection


class Shadow(Struct, frozen=True, kw_only=True):
    """Python would take a module of this installed library from another `file`.

    Such a file may be one of the `project`, which is in front where a program is started in its folder.
    """

    reason: ClassVar = Reason.SHADOWED

    library: NormalizedName
    version: Version
    module: str
    file: str
    project: bool


class InterpreterChanged(Struct, frozen=True, kw_only=True):
    """The interpreter in the same place has another version now than when the environment was made."""

    reason: ClassVar = Reason.INTERPRETER_CHANGED

    executable: str
    before: Version
    now: Version


class LeftOut(Struct, frozen=True):
    """An inventory does not tell of this number of libraries, as the declaration asks for."""

    reason: ClassVar = Reason.LEFT_OUT

    libraries: int


class RuleBroken(Struct, frozen=True, kw_only=True):
    """A rule on what may be locked or installed is broken; `told` says how.

    The `rule` is named as the declaration does. Of a vulnerability, `id` is that of its advisory, `published`
    when that was (ISO form, empty where unknown), and it is `mended` from that version on, if that is known.
    """

    reason: ClassVar = Reason.RULE_BROKEN

    rule: str
    told: str
    id: str = ""
    published: str = ""
    mended: Version | None = None


Cause = (
    Reason
    | ByHand
    | SecondCopy
    | ReasonWith
    | Unchecked
    | MadeForSections
    | Shadow
    | InterpreterChanged
    | LeftOut
    | RuleBroken
)


def reason_of(cause: Cause | None) -> Reason | None:
    """The name of a cause; `None` where there is none."""
    return cause if cause is None or isinstance(cause, Reason) else cause.reason
