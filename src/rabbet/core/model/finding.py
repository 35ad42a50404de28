"""A finding: one difference between an inventory and the lock."""

from enum import StrEnum
from typing import NamedTuple, Self

from msgspec import Struct
from packaging.version import Version

from rabbet.core.model.cause import ByHand, Cause, Reason, reason_of
from rabbet.core.needs.need import Need

__all__ = ["ENVIRONMENT", "PYTHON", "SYSTEM", "About", "Finding", "Kind", "Subject", "Unmet", "Weight"]


class Kind(StrEnum):
    """The kinds of differences."""

    MISSING = "missing"
    SURPLUS = "surplus"
    VERSION = "version"
    ALTERED = "altered"
    BUILD = "build"
    ORIGIN = "origin"
    RUNTIME = "runtime"
    STALE = "stale"
    UNRESOLVED = "unresolved"
    SYSTEM = "system"
    RULE = "rule"
    UNEXPECTED = "unexpected"


class Weight(StrEnum):
    """How much it matters."""

    BREAKS = "breaks"
    DIFFERS = "differs"
    NOTE = "note"


class About(StrEnum):
    """The kinds of subjects: a library and a language may have the same name."""

    LIBRARY = "library"
    ENVIRONMENT = "environment"
    RUNTIME = "runtime"
    PROJECT = "project"
    FILE = "file"
    INVENTORY = "inventory"
    SYSTEM = "system"


class Subject(NamedTuple):
    """The subject of a finding: a library by name, a runtime by language, a file by place."""

    about: About
    name: str

    @classmethod
    def library(cls, name: str) -> Self:
        """The library with this name."""
        return cls(About.LIBRARY, name)

    @classmethod
    def system(cls, package: str) -> Self:
        """The operating system's package of this name."""
        return cls(About.SYSTEM, package)

    @classmethod
    def runtime(cls, language: str) -> Self:
        """The runtime of this language."""
        return cls(About.RUNTIME, language)


ENVIRONMENT = Subject(About.ENVIRONMENT, "(environment)")
PYTHON = Subject.runtime("python")
SYSTEM = Subject.system("(system)")


class Unmet(Struct, frozen=True, kw_only=True):
    """A requirement of somebody who is installed, or of the project, and what is installed in its place.

    It is `of` a library, or of Python (core metadata, Requires-Python).
    """

    requirer: str
    need: Need
    installed: Version | None
    of: Subject


class Finding(Struct, frozen=True, kw_only=True):
    """One difference: what was locked, what is there, and whose requirement is no longer met.

    `unmet` are requirements of the very release that is installed. `files` are those that it is about, as
    `RECORD` names them, or the places of those that nobody recorded; environments that are `shared_with` hold
    the same file. It is `left_over` where the environment is as another lock wanted it. A locked library
    `comes_with` these, the declared one first.
    """

    kind: Kind
    subject: Subject
    weight: Weight
    locked: Version | None = None
    installed: Version | None = None
    breaks: tuple[str, ...] = ()
    unmet: tuple[Unmet, ...] = ()
    files: tuple[str, ...] = ()
    shared_with: tuple[str, ...] = ()
    cause: Cause | None = None
    left_over: bool = False
    comes_with: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """The subject's name."""
        return self.subject.name

    @property
    def reason(self) -> Reason | None:
        """The name of its cause."""
        return reason_of(self.cause)

    @property
    def by_hand(self) -> ByHand | None:
        """Who installed it, where Rabbet did not."""
        return self.cause if isinstance(self.cause, ByHand) else None
