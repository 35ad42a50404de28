"""Which files were exported."""

from typing import ClassVar

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.cli.style import table
from rabbet.core.shell import variant_option
from rabbet.exports.container import CARRIED
from rabbet.tasks.export import Exported

__all__ = ["ExportedView"]


class ExportedView(Struct, frozen=True):
    """The files, whether they had to be written, and the paths for editors."""

    schema: ClassVar[str] = "export"

    exported: Exported
    what: str
    variant: str | None

    def show(self, context: Context) -> None:
        """Print the files and the paths, then the next command."""
        exported = self.exported
        rows = [
            ("written" if path in exported.written else "as it was", path.name) for path in exported.files
        ]
        rows += [(what, path) for what, path in self.exported.paths.items()]
        for line in table(("what", "where"), rows, context.style):
            context.show(line)
        context.show()
        option = variant_option(self.variant)
        if self.what == "container":
            carrying = f"rabbet carry{option} --to {CARRIED}"
            context.show(f"To build it: {carrying}, then the builder of your choice")
        else:
            context.show(f"It is built by what lies beside it: rabbet export container{option}")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "files": [
                {"path": str(path), "written": path in self.exported.written} for path in self.exported.files
            ],
            "paths": dict(self.exported.paths),
        }
