"""A finding: one difference between an inventory and the lock."""

from dataclasses import dataclass
from enum import StrEnum

__all__ = ["Finding", "Kind", "Weight"]


class Kind(StrEnum):
    """What sort of difference it is."""

    MISSING = "missing"
    SURPLUS = "surplus"
    VERSION = "version"
    ALTERED = "altered"
    BUILD = "build"
    ORIGIN = "origin"
    RUNTIME = "runtime"
    UNRESOLVED = "unresolved"


class Weight(StrEnum):
    """How much it matters."""

    BREAKS = "breaks"
    DIFFERS = "differs"
    NOTE = "note"


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One difference: what was locked, what is there, and whose requirement is no longer met.

    `file` is the first altered file, as `RECORD` names it, or the place of one that nobody recorded.
    """

    kind: Kind
    name: str
    locked: str = ""
    installed: str = ""
    weight: Weight
    breaks: tuple[str, ...] = ()
    detail: str = ""
    file: str = ""
