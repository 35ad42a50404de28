"""The JSON documents of `store`."""

from collections.abc import Sequence
from pathlib import Path
from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.python.store.maintenance import Removed
from rabbet.tasks.recreating.store import Overview

__all__ = ["DamagedDocument", "OverviewDocument", "RemovedDocument", "StoreKeyDocument"]


class OverviewDocument(Struct, frozen=True):
    """The store's parts, and where they are."""

    schema: ClassVar[str] = "store"

    found: Overview

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        parts = [asdict(holding) for holding in self.found.holdings]
        return {"folder": str(self.found.folder), "parts": parts, "environments": self.found.environments}


class RemovedDocument(Struct, frozen=True):
    """The entries that were swept out."""

    schema: ClassVar[str] = "store-removed"

    removed: Sequence[Removed]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"removed": [asdict(removed) for removed in self.removed]}


class DamagedDocument(Struct, frozen=True):
    """The damaged entries, which are removed now."""

    schema: ClassVar[str] = "store-damaged"

    damaged: Sequence[str]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"damaged": list(self.damaged)}


class StoreKeyDocument(Struct, frozen=True):
    """The key under which a service keeps the store, and the folder."""

    schema: ClassVar[str] = "store-key"

    key: str
    folder: Path

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {"key": self.key, "folder": str(self.folder)}
