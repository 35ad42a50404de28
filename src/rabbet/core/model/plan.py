"""The plan: what it takes to make an environment match the lock."""

from enum import StrEnum

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.model.finding import Finding
from rabbet.core.model.inventory import Installed
from rabbet.core.model.lock import ToInstall

__all__ = ["Action", "Plan", "Step"]


class Action(StrEnum):
    """The kinds of changes to a library."""

    KEEP = "keep"
    ADD = "add"
    REPLACE = "replace"
    REMOVE = "remove"


class Step(Struct, frozen=True, kw_only=True):
    """One library's step of the plan: its state now, its state afterwards, and the difference that causes it.

    One that is `not_chosen` is locked, but for groups, extras or targets that are not installed here.
    """

    action: Action
    name: NormalizedName
    installed: tuple[Installed, ...] = ()
    needed: ToInstall | None = None
    finding: Finding | None = None
    not_chosen: bool = False


class Plan(Struct, frozen=True, kw_only=True):
    """All steps, sorted by name; `rebuild` says why the whole environment is made again, if it is.

    `strays` are the places of files that nobody recorded, which go.
    """

    steps: tuple[Step, ...]
    rebuild: str | None = None
    strays: tuple[str, ...] = ()

    def of(self, *actions: Action) -> tuple[Step, ...]:
        """The steps that are one of these actions."""
        return tuple(step for step in self.steps if step.action in actions)

    @property
    def idle(self) -> bool:
        """Whether there is nothing to do."""
        return not (self.rebuild or self.strays) and all(step.action is Action.KEEP for step in self.steps)
