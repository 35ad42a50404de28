"""What `store` shows."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text, table
from rabbet.store.maintenance import Removed
from rabbet.tasks.store import Overview

__all__ = ["DamagedView", "OverviewView", "RemovedView"]


class OverviewView(Struct, frozen=True):
    """The store's parts, and where they are."""

    schema: ClassVar[str] = "store"

    found: Overview

    def show(self, context: Context) -> None:
        """Print one row a part."""
        holdings = self.found.holdings
        rows = [
            (holding.name, str(holding.entries), size_text(holding.size), holding.purpose)
            for holding in holdings
        ]
        for line in table(("part", "entries", "size", "what for"), rows, context.style):
            context.show(line)
        context.show()
        total = size_text(sum(one.size for one in holdings))
        context.show(f"{self.found.folder}: {total}, for {count(self.found.environments, 'environment')}.")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        parts = [asdict(holding) for holding in self.found.holdings]
        return {"folder": str(self.found.folder), "parts": parts, "environments": self.found.environments}


class RemovedView(Struct, frozen=True):
    """What was swept out."""

    schema: ClassVar[str] = "store-removed"

    removed: Sequence[Removed]

    def show(self, context: Context) -> None:
        """Print how much it was."""
        wheels = {one.sha256 for one in self.removed}
        freed = size_text(sum(one.size for one in self.removed))
        context.show(f"Removed {count(len(wheels), 'wheel')} that nobody uses: {freed} freed.")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"removed": [asdict(one) for one in self.removed]}


class DamagedView(Struct, frozen=True):
    """What was damaged, and is removed now."""

    schema: ClassVar[str] = "store-damaged"

    damaged: Sequence[str]

    def show(self, context: Context) -> None:
        """Print one line a file."""
        for name in self.damaged:
            context.show(f"  damaged: {name}")
        if self.damaged:
            context.show()
            context.show("What was damaged is removed. Next, in each project: rabbet recreate")
        else:
            context.show("Every file is what it was when it was fetched.")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"damaged": list(self.damaged)}
