"""The JSON document of `resolve --now` and `begin --now`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.documents.recreating.recreate import RecreateDocument
from rabbet.documents.resolving.resolve import ResolvedDocument
from rabbet.tasks.recreating.now import BroughtUp

__all__ = ["BroughtUpDocument"]


class BroughtUpDocument(Struct, frozen=True):
    """What was locked, and what was done to the environment."""

    schema: ClassVar[str] = "now"

    brought: BroughtUp

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "resolve": ResolvedDocument(self.brought.resolved).document(),
            "recreate": RecreateDocument(self.brought.recreated, done=True).document(),
        }
