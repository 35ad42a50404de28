"""The JSON document of `drift --keep`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.keep import Keeping

__all__ = ["KeepDocument"]


class KeepDocument(Struct, frozen=True):
    """What keeping libraries as they are installed changes, and whether that was `written`."""

    schema: ClassVar[str] = "keep"

    kept: Keeping
    written: bool

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "written": self.written,
            "changes": [
                {"place": one.place, "before": one.before or None, "after": one.after or None}
                for one in self.kept.changes
            ],
            "preferred": {name: str(version) for name, version in sorted(self.kept.preferred.items())},
        }
