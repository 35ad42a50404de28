"""One change of a declaration, as a command gives it, and the version after this one."""

import re
from typing import Literal, Self, TypeAlias, get_args

from msgspec import Struct
from packaging.version import Version

from rabbet.core.declaration.keys import KEYS, Shape, Verb
from rabbet.core.declaration.model import Section

__all__ = ["STEPS", "Edit", "EditResult", "NextStep", "next_version"]


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
        if what == "system":
            name, _, value = text.partition("=")
            return cls(verb=verb, what=what, name=name, value=value)
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


class EditResult(Struct, frozen=True, kw_only=True):
    """The result for one entry: its text before (empty: it is new) and after (empty: it is gone)."""

    place: str
    before: str = ""
    after: str = ""

    @property
    def happened(self) -> bool:
        """Whether anything differs."""
        return self.before != self.after


NextStep: TypeAlias = Literal["next-patch", "next-minor", "next-major"]
STEPS: tuple[NextStep, ...] = get_args(NextStep)


def next_version(version: Version, step: NextStep) -> Version:
    """The lowest version above this one that could be the next patch, minor or major release.

    All numbers behind the one that is raised are 0, and a pre-release is followed by its release. It has as
    many numbers as before, or more where the step needs them.
    """
    place = {"next-major": 0, "next-minor": 1, "next-patch": 2}[step]
    numbers = [*version.release, *[0] * (place + 1 - len(version.release))]
    begun = [*numbers[: place + 1], *[0] * (len(numbers) - place - 1)]
    if _written(version.epoch, begun) <= version:
        begun[place] += 1
    return _written(version.epoch, begun)


def _written(epoch: int, numbers: list[int]) -> Version:
    return Version((f"{epoch}!" if epoch else "") + ".".join(map(str, numbers)))
