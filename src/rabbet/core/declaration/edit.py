"""One change of a declaration, as a command gives it."""

from msgspec import Struct

from rabbet.core.declaration.keys import Verb
from rabbet.core.declaration.model import Section

__all__ = ["Change", "Edit"]


class Edit(Struct, frozen=True, kw_only=True):
    """Something to declare or retract, in the words of the option that it is given to.

    `what` is an entry of a key (`keys.KEYS`), or `library`, `runtime`, `section` or `own-version`. A library
    goes into the `section` if one is named; `exactly` as it is given, in place of all that is declared of it
    there. To retract a `section` takes out all of it. What a table holds is given as `NAME=TEXT`.
    """

    verb: Verb
    what: str
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
