"""The view of `carry`: the contents of a carried folder."""

from collections.abc import Sequence

from rabbet.archives.pack import ENDINGS
from rabbet.cli.context import Context
from rabbet.core.shell import quoted, variant_option
from rabbet.documents.amounts import count, size_text
from rabbet.documents.more.carry import CarriedBuildsDocument, CarryDocument
from rabbet.tasks.more.carry import Carried
from rabbet.tasks.more.script_folder import STARTING

__all__ = ["CarriedBuildsView", "CarryView", "ScriptFolderView"]


class CarryView(CarryDocument, frozen=True):
    """How much there is, what could not come along, and what to do with it."""

    variant: str | None

    def show(self, context: Context) -> None:
        """Print what was written, then the command for the other machine."""
        carried = self.carried
        _show_contents(carried, context)
        place = quoted(carried.place.name)
        unpacked = carried.place.name.endswith(ENDINGS)
        runner = "rabbet" if unpacked else f"python{carried.python} {place}/rabbet.py"
        obtaining = " --obtain" if carried.with_runtimes else ""
        recreating = f"recreate{variant_option(self.variant)}{obtaining} --carried {place}"
        context.show(f"There, in the project: {runner} {recreating}")


class ScriptFolderView(CarryDocument, frozen=True):
    """A script with all that it needs, and how it is started."""

    def show(self, context: Context) -> None:
        """Print what was written, then the command for the other machine."""
        _show_contents(self.carried, context)
        starting = quoted(f"{self.carried.place.parent.name}/{STARTING}")
        context.show(f"There: python{self.carried.python} {starting} ARGUMENTS")


def _show_contents(carried: Carried, context: Context) -> None:
    """Print what was carried, for whom, and how much of it is new."""
    written = carried.written
    for note in carried.notes:
        context.show(f"note: {note}")
    context.show(f"for: {_targets_text(carried.targets)}")
    context.show(f"Rabbet itself is there for {carried.rabbet_for}")
    context.show()
    changed = f"{written.new} written"
    changed += f", {written.gone} removed" if written.gone else ""
    changed += f", {written.files - written.new} unchanged" if written.files > written.new else ""
    context.show(f"{count(written.files, 'file')}, {size_text(written.size)}, in {carried.place}: {changed}.")


def _targets_text(targets: Sequence[str]) -> str:
    """Targets such as `linux-x86_64 with Python 3.12`, one version of Python after another."""
    platforms: dict[str, list[str]] = {}
    for target in targets:
        platform, _, python = target.partition(" with Python ")
        platforms.setdefault(python, []).append(platform)
    pythons: dict[str, list[str]] = {}
    for python, each in platforms.items():
        pythons.setdefault(", ".join(each), []).append(python)
    return "; ".join(f"{each} with Python {', '.join(several)}" for each, several in pythons.items())


class CarriedBuildsView(CarriedBuildsDocument, frozen=True):
    """Which wheels that were built here lie in the place now, and how teammates get them."""

    def show(self, context: Context) -> None:
        """Print the wheels, what is missing, and the entry for the declaration."""
        carried = self.carried
        for wheel in carried.wheels:
            context.show(f"{wheel.name} {wheel.version}: {wheel.filename}")
        for what in carried.not_built:
            context.show(f"note: {what} was not built here yet; rabbet recreate builds it")
        if not carried.wheels:
            if not carried.not_built:
                context.show("The lock needs nothing that is built from source.")
            return
        context.show()
        others = f", beside {carried.others} of other builds" if carried.others else ""
        size = size_text(sum(wheel.size for wheel in carried.wheels))
        context.show(
            f"{count(len(carried.wheels), 'wheel')}, {size}, in {carried.place}{others}: {carried.new} new."
        )
        if not carried.place.name.endswith(ENDINGS):
            context.show("For teammates, in pyproject.toml, with the folder's address:")
            context.show("  [[tool.rabbet.sources]]")
            context.show('  name = "builds"')
            context.show(f'  url = "{carried.place}"')
            context.show("  builds = true")
