"""One change of a declaration, as a command gives it."""

from typing import Literal, TypeAlias

from msgspec import Struct

from rabbet.core.model.declaration import Section

__all__ = ["Change", "Edit", "What"]

What: TypeAlias = Literal[
    "library",
    "runtime",
    "target",
    "python",
    "baseline",
    "newest",
    "source",
    "catalogue",
    "limit",
    "without",
    "correction",
    "local",
    "build-from-source",
    "own-version",
    "census",
    "section",
]


class Edit(Struct, frozen=True, kw_only=True):
    """Something to declare or retract, in the words of the option that it is given to.

    A library goes into the `section` if one is named; `exactly` as it is given, in place of all that is
    declared of it there. To retract a `section` takes out all of it. A checkout (`local`) is `NAME=PATH`.
    """

    verb: Literal["declare", "retract"]
    what: What
    value: str = ""
    section: Section | None = None
    exactly: bool = False


class Change(Struct, frozen=True, kw_only=True):
    """What became of one entry: its text before (empty: it is new) and after (empty: it is gone)."""

    place: str
    before: str = ""
    after: str = ""

    @property
    def happened(self) -> bool:
        """Whether anything differs."""
        return self.before != self.after
