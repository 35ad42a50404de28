"""The views of `store`."""

from rabbet.cli.context import Context
from rabbet.documents.amounts import count, size_text
from rabbet.documents.recreating.store import DamagedDocument, OverviewDocument, RemovedDocument

__all__ = ["DamagedView", "OverviewView", "RemovedView"]


class OverviewView(OverviewDocument, frozen=True):
    """The store's parts, and where they are."""

    def show(self, context: Context) -> None:
        """Print one row a part."""
        holdings = self.found.holdings
        rows = [
            (holding.name, str(holding.entries), size_text(holding.size), holding.purpose)
            for holding in holdings
        ]
        context.show_table(("part", "entries", "size", "what for"), rows)
        context.show()
        total = size_text(sum(holding.size for holding in holdings))
        context.show(f"{self.found.folder}: {total}, for {count(self.found.environments, 'environment')}.")


class RemovedView(RemovedDocument, frozen=True):
    """The entries that were swept out."""

    def show(self, context: Context) -> None:
        """Print how much it was."""
        wheels = {removed.sha256 for removed in self.removed}
        freed = size_text(sum(removed.size for removed in self.removed))
        context.show(f"Removed {count(len(wheels), 'wheel')} that nothing uses: {freed} freed.")


class DamagedView(DamagedDocument, frozen=True):
    """The damaged entries, which are removed now."""

    def show(self, context: Context) -> None:
        """Print one line a file."""
        for name in self.damaged:
            context.show(f"  damaged: {name}")
        if self.damaged:
            context.show()
            context.show("What was damaged is removed. Next, in each project: rabbet recreate")
        else:
            context.show("Every file is what it was when it was fetched.")
