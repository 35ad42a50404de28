"""Which files were exported."""

from collections.abc import Mapping

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.cli.style import table
from rabbet.exports.container import CARRIED
from rabbet.tasks.export import Exported

__all__ = ["ExportedView"]

_NEXT = {
    "container": f"rabbet carry --to {CARRIED}",
    "editor": "rabbet export container",
}


class ExportedView(Struct, frozen=True):
    """The files, whether they had to be written, and the paths for editors."""

    exported: Exported
    what: str
    paths: Mapping[str, str]

    def show(self, context: Context) -> None:
        """Print the files and the paths, then the next command."""
        exported = self.exported
        rows = [
            ("written" if path in exported.written else "as it was", path.name) for path in exported.files
        ]
        rows += [(what, path) for what, path in self.paths.items()]
        for line in table(("what", "where"), rows, context.style):
            context.show(line)
        context.show()
        if self.what == "container":
            context.show(f"To build it: {_NEXT['container']}, then the builder of your choice")
        else:
            context.show(f"It is built by what lies beside it: {_NEXT['editor']}")

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "files": [
                {"path": str(path), "written": path in self.exported.written} for path in self.exported.files
            ],
            "paths": dict(self.paths),
        }
