"""The JSON document of `export`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.more.export import Exported

__all__ = ["ExportedDocument"]


class ExportedDocument(Struct, frozen=True):
    """The files, whether they had to be written, and the paths for editors."""

    schema: ClassVar[str] = "export"

    exported: Exported

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "files": [
                {"path": str(path), "written": path in self.exported.written} for path in self.exported.files
            ],
            "paths": dict(self.exported.paths),
            "missing_runtimes": list(self.exported.missing),
        }
