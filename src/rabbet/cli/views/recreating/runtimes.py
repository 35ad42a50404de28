"""The views of `runtimes`."""

from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.cli.context import Context
from rabbet.core.model.runtime import PythonRuntime, Runtime
from rabbet.core.shell import quoted
from rabbet.documents.amounts import count, size_text
from rabbet.documents.recreating.runtimes import (
    AllPublishedDocument,
    DiscardedDocument,
    ObtainedDocument,
    OffersDocument,
    PublishedDocument,
    RuntimeDocument,
    RuntimesDocument,
)
from rabbet.store.layout import OBTAINED
from rabbet.tasks.recreating.runtimes import RuntimeRow
from rabbet.workspace.machine import Machine

if TYPE_CHECKING:
    from rabbet.workspace.runtimes.obtaining import OfferedRuntime
    from rabbet.workspace.runtimes.publishing import Published

__all__ = [
    "AllPublishedView",
    "DiscardedView",
    "ObtainedView",
    "OffersView",
    "PublishedView",
    "RuntimeView",
    "RuntimesView",
]

_SHOWN = 20  # offers
_SHOWN_OBSTACLES = 4


class RuntimesView(RuntimesDocument, frozen=True):
    """The runtimes of this machine, one row each; what was `refused` only if it is asked for."""

    refused: bool = False

    def show(self, context: Context) -> None:
        """Print one row a runtime, and which ones the project gets."""
        found, home = self.found, context.machine.home
        if found.rows:
            several = len({row.architecture for row in found.rows if row.architecture}) > 1
            rows = [_row(row, context.machine, machines=several) for row in found.rows]
            headings = ("language", "version", "of", "this project", "used by", "where")
            tones = {"gets it": context.style.good}
            shown = (*headings[:3], "machine", *headings[3:]) if several else headings
            context.show_table(shown, rows, tones=tones)
            context.show()
        for refusal in found.refusals if self.refused else ():
            context.show(
                f"Not usable: {refusal.language}, {_short(refusal.executable, home)}: {refusal.reason}"
            )
        for error in found.missing:
            context.show(f"Missing: {error}.")
        context.show(self._outcome(context))

    def _outcome(self, context: Context) -> str:
        found = self.found
        told = f"{count(len(found.rows), 'runtime')} on this machine"
        used = sum(bool(row.projects) for row in found.rows)
        told += f", {used} in use" if used else ""
        if found.refusals and not self.refused:
            told += f"; not usable: {len(found.refusals)} (--refused shows why)"
        if found.declaration is None:
            return f"{told}. No pyproject.toml says which ones this folder gets."
        declaration = _short(str(found.declaration), context.machine.home)
        return f"{told}. What this folder gets is declared in {declaration}."


def _row(row: RuntimeRow, machine: Machine, *, machines: bool) -> tuple[str, ...]:
    """A runtime's cells; what machine it is built for only where there are several `machines`."""
    runtime = row.runtime
    return (
        runtime.language,
        str(runtime.version),
        _made_by(row),
        *([row.architecture or "-"] if machines else []),
        "gets it" if row.chosen else row.passed_over or "-",
        ", ".join(row.projects) or "-",
        _where(runtime, machine),
    )


def _made_by(row: RuntimeRow) -> str:
    """Who made it, and what sets a build of Python apart."""
    runtime = row.runtime
    flags = runtime.abi_flags if isinstance(runtime, PythonRuntime) else ""
    kinds = [name for flag, name in (("t", "free-threaded"), ("d", "debug")) if flag in flags]
    return ", ".join([runtime.distributor or "-", *kinds])


def _where(runtime: Runtime, machine: Machine) -> str:
    """Where a runtime's program is; of the long paths in the store only that it is there."""
    obtained = f"{machine.store_folder / OBTAINED}/"
    return (
        "the store" if runtime.executable.startswith(obtained) else _short(runtime.executable, machine.home)
    )


def _short(path: str, home: Path) -> str:
    """A path, with the home folder as people write it."""
    return f"~/{Path(path).relative_to(home)}" if home in Path(path).parents else path


class OffersView(OffersDocument, frozen=True):
    """The versions that catalogues offer, one row each."""

    constraint: str

    def show(self, context: Context) -> None:
        """Print the newest offers, and how to obtain one."""
        for offered in self.offers[:1]:
            rows = [_offer_row(offer) for offer in self.offers[:_SHOWN]]
            context.show_table(("version", "of", "size", "catalogue", "fits"), rows)
            if len(self.offers) > _SHOWN:
                context.show(f"and {len(self.offers) - _SHOWN} older ones (see --json)")
            context.show()
            able = any(offer.archive for offer in self.offers)
            told = f" To have the newest that fits: rabbet runtimes obtain {quoted(self.constraint)}"
            offers = count(len(self.offers), "version")
            context.show(f"{offers} of {offered.offer.language} to install.{told if able else ''}")
        if not self.offers:
            context.show(f"No catalogue offers {self.constraint}.")


class ObtainedView(ObtainedDocument, frozen=True):
    """A runtime that was obtained."""

    def show(self, context: Context) -> None:
        """Print what it is, and where."""
        offer, where = self.picked.offer, _short(str(self.program), context.machine.home)
        context.show(f"{offer.language} {offer.version} from '{self.picked.catalogue}' is in {where}.")
        context.show("It is found like any other. Next: rabbet runtimes")


class DiscardedView(DiscardedDocument, frozen=True):
    """Runtimes that were removed from the store."""

    def show(self, context: Context) -> None:
        """Print what went."""
        for obtained in self.gone:
            context.show(f"Discarded {obtained.language} {obtained.version}.")


class RuntimeView(RuntimeDocument, frozen=True):
    """Why a runtime is in the lock, and what holds it back."""

    def show(self, context: Context) -> None:
        """Print all of it."""
        explained, runtime = self.explained, self.explained.runtime
        context.show(f"{runtime.language} {runtime.version} is locked.")
        context.show()
        context.show("asked for:")
        for asked in explained.asked:
            context.show(f"  {asked}")
        here = ", ".join(map(str, explained.here)) or "none"
        context.show(f"on this machine: {here}")
        if runtime.catalogue:
            platforms = ", ".join(archive.platform for archive in runtime.archives)
            context.show(f"available from {runtime.catalogue} for {platforms}")
        context.show()
        context.show(self._held())

    def _held(self) -> str:
        explained, runtime = self.explained, self.explained.runtime
        if explained.newest is None or explained.newest <= runtime.version:
            known = f", as far as is known: {explained.unasked}" if explained.unasked else ""
            return f"It is the newest that is available{known}."
        if explained.holders:
            told = "; ".join(str(holder) for holder in explained.holders)
            return f"{explained.newest} could be had. It is held back: {told}."
        return f"{explained.newest} could be had. To take it: rabbet resolve --raise {runtime.language}"


class PublishedView(PublishedDocument, frozen=True):
    """A runtime that was packed for others."""

    def show(self, context: Context) -> None:
        """Print what may not work elsewhere, and how others name the catalogue."""
        done = self.done
        libraries = sorted({obstacle.library for obstacle in done.obstacles if obstacle.library})
        if libraries:
            context.show(f"Warning: other machines need these, too: {', '.join(libraries)}.")
        others = [obstacle for obstacle in done.obstacles if not obstacle.library]
        for other in others[:_SHOWN_OBSTACLES]:
            context.show(f"Warning: {other.place}: {other.reason}.")
        if len(others) > _SHOWN_OBSTACLES:
            context.show(f"and {len(others) - _SHOWN_OBSTACLES} more (see --json)")
        context.show(_published_line(done))
        context.show(f"Who names {done.catalogue} under [[tool.rabbet.catalogues]] can obtain it.")


class AllPublishedView(AllPublishedDocument, frozen=True):
    """The outcome of each line of a file: published, or failed and why."""

    def show(self, context: Context) -> None:
        """Print a line for each."""
        for published in self.done:
            context.show(_published_line(published))
        for what, error in self.failed:
            context.show(f"not {what}: {error}" + "".join(f"; {reason}" for reason in error.because[:1]))
        context.show()
        told = f"{count(len(self.done), 'runtime')} published"
        context.show(f"{told}, {len(self.failed)} not." if self.failed else f"{told}.")


def _published_line(done: "Published") -> str:
    """The line on a published runtime: its platforms, and whether it was run here."""
    archive, offer = done.archive, done.offer
    platforms = " and ".join(archive.platform for archive in offer.archives)
    baseline = f", {archive.baseline} or newer" if archive.baseline else ""
    how = "" if done.tried else "; read from its files, because this machine can't run it"
    size = size_text(archive.size or 0)
    return f"{offer.language} {offer.version} for {platforms}{baseline}: {archive.filename}, {size}{how}"


def _offer_row(offered: "OfferedRuntime") -> tuple[str, ...]:
    size = offered.archive.size if offered.archive else None
    return (
        str(offered.offer.version),
        offered.offer.distributor or "-",
        size_text(size) if size else "-",
        offered.catalogue,
        offered.reason or "yes",
    )
