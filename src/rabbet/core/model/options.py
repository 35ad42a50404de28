"""Options of resolving and recreating that are neither declared nor locked."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from packaging.utils import NormalizedName

__all__ = ["RecreateOptions", "ResolveOptions"]


class ResolveOptions(NamedTuple):
    """Options of resolving besides the declaration.

    `raised` libraries get the newest release that solves, the first of them before others; `raise_all` frees
    everything, the runtime too. `lowest` asks for the lowest allowed release of each declared library.
    Nothing uploaded after `as_of` exists. To `mend`, what is locked and breaks a rule moves.
    """

    raised: "tuple[NormalizedName, ...]" = ()
    raise_all: bool = False
    lowest: bool = False
    as_of: datetime | None = None
    mend: bool = False

    @property
    def plain(self) -> bool:
        """Whether nothing but the declaration is asked for."""
        return not (self.raised or self.raise_all or self.lowest or self.as_of or self.mend)

    @property
    def reason(self) -> str:
        """Why a library moved, where everything is free to move and nobody's requirement explains it."""
        if self.lowest:
            return "the lowest that is allowed"
        if self.as_of is not None:
            return f"the newest on {self.as_of:%Y-%m-%d}"
        return "raised on purpose" if self.raise_all else ""

    @property
    def keeps(self) -> bool:
        """Whether what is locked stays where it can."""
        return not (self.raise_all or self.lowest or self.as_of)


class RecreateOptions(NamedTuple):
    """The sections to install: `everything`, or exactly these groups and extras, else those of before.

    A `fresh` environment is made again, whatever state the old one is in. To `verify`, every file is held
    against the hashes of the lock. Locked runtimes that are missing are fetched with `obtain`. The `project`
    itself is installed or left out; what the lock has in `editable` form, it and checkouts, is installed so
    or as a wheel. Without a choice (`None`) both stay as they are. Modules can be left to be compiled when
    they are first imported (`compile_later`).
    """

    fresh: bool = False
    verify: bool = False
    everything: bool = False
    groups: Sequence[str] | None = None
    extras: Sequence[str] | None = None
    obtain: bool = False
    project: bool | None = None
    editable: bool | None = None
    compile_later: bool = False
