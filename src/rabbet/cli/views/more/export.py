"""Which files were exported."""

from rabbet.cli.context import Context
from rabbet.core.shell import variant_option
from rabbet.documents.more.export import ExportedDocument
from rabbet.exports.container import CARRIED

__all__ = ["ExportedView"]


class ExportedView(ExportedDocument, frozen=True):
    """The files, whether they had to be written, and the paths for editors."""

    what: str
    variant: str | None

    def show(self, context: Context) -> None:
        """Print the files and the paths, then the next command."""
        exported = self.exported
        rows = [
            ("written" if path in exported.written else "as it was", path.name) for path in exported.files
        ]
        rows += [(what, path) for what, path in self.exported.paths.items()]
        context.show_table(("what", "where"), rows)
        context.show()
        if self.exported.missing:
            context.show(f"note: the base image has to bring {', '.join(self.exported.missing)}")
        option = variant_option(self.variant)
        if self.what == "container":
            carrying = f"rabbet carry{option} --to {CARRIED}"
            context.show(f"To build it: {carrying}, then the builder of your choice")
        else:
            context.show(f"It is built by what lies beside it: rabbet export container{option}")
