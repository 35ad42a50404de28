"""What was put into a carried folder."""

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text
from rabbet.core.shell import quoted, variant_option
from rabbet.exports.packing import ENDINGS
from rabbet.tasks.carry import Carried

__all__ = ["CarryView"]


class CarryView(Struct, frozen=True):
    """How much there is, what could not come along, and what to do with it."""

    carried: Carried
    variant: str | None

    def show(self, context: Context) -> None:
        """Print what was written, then the command for the other machine."""
        carried, written = self.carried, self.carried.written
        for note in carried.notes:
            context.show(f"note: {note}")
        context.show(f"for: {', '.join(carried.targets)}")
        context.show(f"Rabbet itself is there for {carried.rabbet_for}")
        context.show()
        changed = f"{written.new} written"
        changed += f", {written.gone} taken away" if written.gone else ""
        changed += f", {written.files - written.new} as they were" if written.files > written.new else ""
        context.show(
            f"{count(written.files, 'file')}, {size_text(written.size)}, in {carried.place}: {changed}."
        )
        place = quoted(carried.place.name)
        unpacked = carried.place.name.endswith(ENDINGS)
        runner = "rabbet" if unpacked else f"python{carried.python} {place}/rabbet.py"
        context.show(
            f"There, in the project: {runner} recreate{variant_option(self.variant)} --carried {place}"
        )

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        carried, written = self.carried, self.carried.written
        return {
            "place": str(carried.place),
            "targets": list(carried.targets),
            "files": written.files,
            "new": written.new,
            "gone": written.gone,
            "size": written.size,
            "notes": list(carried.notes),
        }
