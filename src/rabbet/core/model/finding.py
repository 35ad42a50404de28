"""A finding: one difference between an inventory and the lock."""

from enum import StrEnum

from msgspec import Struct
from packaging.version import Version

from rabbet.core.model.inventory import Installation
from rabbet.core.needs.need import Need

__all__ = ["ENVIRONMENT", "RUNTIME", "Finding", "Kind", "Reason", "Unmet", "Weight"]

ENVIRONMENT = "(environment)"  # the name of findings about the environment itself
RUNTIME = "python"  # and of those about its interpreter


class Kind(StrEnum):
    """What sort of difference it is."""

    MISSING = "missing"
    SURPLUS = "surplus"
    VERSION = "version"
    ALTERED = "altered"
    BUILD = "build"
    ORIGIN = "origin"
    RUNTIME = "runtime"
    STALE = "stale"
    UNRESOLVED = "unresolved"


class Weight(StrEnum):
    """How much it matters."""

    BREAKS = "breaks"
    DIFFERS = "differs"
    NOTE = "note"


class Reason(StrEnum):
    """Why a finding is one, where its kind does not say it."""

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
    YANKED = "yanked"
    OBTAINABLE = "obtainable"
    NONE_FITS = "none-fits"
    MADE_WITH = "made-with"
    OTHER_LINKED = "other-linked"
    NOT_LINKED = "not-linked"
    NOT_DECLARED = "not-declared"
    BUILT_OTHERWISE = "built-otherwise"
    PERMISSIONS = "permissions"


class Unmet(Struct, frozen=True, kw_only=True):
    """A requirement of somebody who is installed, or of the project, and what is installed in its place."""

    requirer: str
    need: Need
    installed: Version | None


class Finding(Struct, frozen=True, kw_only=True):
    """One difference: what was locked, what is there, and whose requirement is no longer met.

    `unmet` are requirements of the very release that is installed. `files` are those that it is about, as
    `RECORD` names them, or the places of those that nobody recorded. `told` is what somebody else said of it,
    such as a source of a release, or a name or a place that belongs to the `reason`. Environments that are
    `shared_with` hold the same file. An `installation` tells how something that Rabbet did not install came
    in, and `needed_by` who of the installed ones needs it. It is `left_over` where the environment is as
    another lock wanted it. Python reads the files in `start_up` whenever it starts. A locked library
    `comes_with` these, the declared one first.
    """

    kind: Kind
    name: str
    weight: Weight
    locked: Version | None = None
    installed: Version | None = None
    breaks: tuple[str, ...] = ()
    unmet: tuple[Unmet, ...] = ()
    files: tuple[str, ...] = ()
    reason: Reason | None = None
    told: str = ""
    shared_with: tuple[str, ...] = ()
    installation: Installation | None = None
    needed_by: tuple[str, ...] = ()
    left_over: bool = False
    start_up: tuple[str, ...] = ()
    comes_with: tuple[str, ...] = ()
