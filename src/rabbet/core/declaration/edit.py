"""One change of a declaration, as a command gives it."""

import re
from typing import Self

from msgspec import Struct

from rabbet.core.declaration.keys import KEYS, Shape, Verb
from rabbet.core.declaration.model import Section

__all__ = ["Change", "Edit"]

_NAMED = {key.entry for key in KEYS if key.shape in (Shape.TABLE, Shape.PLACES)}
_PLACED = {key.entry for key in KEYS if key.shape is Shape.PLACES}
_NAME = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*)=(.+)\Z")


class Edit(Struct, frozen=True, kw_only=True):
    """Something to declare or retract, in the words of the option that it is given to.

    `what` is an entry of a key (`keys.KEYS`), or `library`, `runtime`, `section` or `own-version`. A library
    goes into the `section` if one is named; `exactly` as it is given, in place of all that is declared of it
    there. To retract a `section` takes out all of it. What stands in a table has a `name` there.
    """

    verb: Verb
    what: str
    value: str = ""
    name: str | None = None
    section: Section | None = None
    exactly: bool = False

    @classmethod
    def given(cls, verb: Verb, what: str, text: str, section: Section | None = None) -> Self:
        """An edit by the text of its option: `NAME=VALUE` declares what has a name, `NAME` retracts it.

        A place may be declared without one.
        """
        if what not in _NAMED:
            return cls(verb=verb, what=what, value=text, section=section)
        if verb == "retract":
            return cls(verb=verb, what=what, name=text)
        if what in _PLACED:
            named = _NAME.match(text)
            return cls(verb=verb, what=what, name=named and named[1], value=named[2] if named else text)
        name, _, value = text.partition("=")
        return cls(verb=verb, what=what, name=name, value=value)

    @property
    def text(self) -> str:
        """Its name and value in one text."""
        return "=".join(part for part in (self.name, self.value) if part)


class Change(Struct, frozen=True, kw_only=True):
    """What became of one entry: its text before (empty: it is new) and after (empty: it is gone)."""

    place: str
    before: str = ""
    after: str = ""

    @property
    def happened(self) -> bool:
        """Whether anything differs."""
        return self.before != self.after
