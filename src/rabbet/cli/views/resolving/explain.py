"""The view of `explain`."""

import re

from packaging.utils import NormalizedName

from rabbet.cli.context import Context
from rabbet.core.graph.graph import Ask, Branch, Graph, own_size, paths_to, sections_of, size_with_needs, tree
from rabbet.core.graph.held_back import Holder
from rabbet.core.needs.wording import need_text
from rabbet.documents.amounts import count, size_text
from rabbet.documents.resolving.explain import LibraryDocument, WholeLockDocument
from rabbet.tasks.resolving.explain import Elsewhere, Explained

_SHOWN_PATHS = 8
_ONLY_EXTRA = re.compile(r'extra == "[^"]*"\Z')

__all__ = ["HeldBackView", "LibraryView", "TreeView"]


class LibraryView(LibraryDocument, frozen=True):
    """Who asks for one library, for which groups and extras, and what holds it back."""

    def show(self, context: Context) -> None:
        """Print all of it."""
        if self.name in self.explained.graph.libraries:
            self._show_here(context)
        else:
            context.show(f"This machine needs no {self.name}; other targets do.")
        for elsewhere in self.explained.elsewhere:
            for line in _elsewhere(elsewhere):
                context.show(line)
        _warn(self.explained, context)

    def _show_here(self, context: Context) -> None:
        """Show the release that is locked for this machine."""
        explained, graph, name = self.explained, self.explained.graph, self.name
        sections = [str(section or graph.project) for section in sections_of(graph, name)]
        context.show(
            f"{name} {graph.libraries[name].version} is locked for {', '.join(sections) or 'nobody'}."
        )
        context.show()
        context.show("asked for:")
        paths = paths_to(graph, name)
        for path in paths[:_SHOWN_PATHS]:
            context.show(f"  {_path(graph, path)}")
        if len(paths) > _SHOWN_PATHS:
            context.show(f"  and along {len(paths) - _SHOWN_PATHS} further ways (see --json)")
        for note in explained.notes:
            context.show(note)
        context.show()
        if explained.unasked:
            context.show(f"What holds it back is not known: {explained.unasked}.")
        else:
            newest = ["It is at its newest release."]
            for line in _held(explained.holders[0]) if explained.holders else newest:
                context.show(line)


class TreeView(WholeLockDocument, frozen=True):
    """The whole graph, with `sizes` if these are wanted."""

    sizes: bool

    def show(self, context: Context) -> None:
        """Print one row a requirement."""
        graph, sizes = self.explained.graph, self.sizes
        declared = {ask.name for ask in graph.asks if ask.requirer is None}
        headings = ("asked for", "locked", *(("own", "with all it needs") if sizes else ()), "")
        rows = [_branch(graph, branch, declared, sizes=sizes) for branch in tree(graph)]
        context.show_table(headings, rows)
        context.show()
        total = f", {size_text(sum(own_size(graph, name) for name in graph.libraries))}" if sizes else ""
        all_ = count(len(graph.libraries), "library")
        context.show(f"{all_} for {len(declared)} that {graph.project} declares{total}.")
        _warn(self.explained, context)


class HeldBackView(WholeLockDocument, frozen=True):
    """Every library that is not at its newest release."""

    def show(self, context: Context) -> None:
        """Print one row a library, or more where several hold it back."""
        explained = self.explained
        rows = []
        for holder in explained.holders:
            if holder.newest > holder.locked:
                reasons = holder.by or ("nothing: rabbet resolve --raise " + holder.name,)
                rows += [
                    (holder.name, str(holder.locked), str(holder.newest), reasons[0]),
                    *(("", "", "", reason) for reason in reasons[1:]),
                ]
            if holder.ruled_out is not None:
                rows.append((holder.name, str(holder.locked), *holder.ruled_out))
        if rows:
            context.show_table(("library", "locked", "newest", "held by"), rows)
            context.show()
        held = sum(
            holder.newest > holder.locked or holder.ruled_out is not None for holder in explained.holders
        )
        all_ = len(explained.graph.libraries)
        outcome = f"{held} of {count(all_, 'library')} held below the newest release."
        context.show(outcome if held else "All are at the newest release that can be used here.")
        _warn(explained, context)


def _branch(graph: Graph, branch: Branch, declared: set[NormalizedName], *, sizes: bool) -> tuple[str, ...]:
    if branch.ask is None:
        return (str(branch.section), "", *(("", "") if sizes else ()), "")
    name = branch.ask.name
    library = graph.libraries.get(name)
    text = "  " * branch.depth + need_text(branch.ask.need, marker=False)
    notes = ["declared"] if name in declared and branch.ask.requirer is not None else []
    notes += ["see above"] if branch.seen else []
    weights = (size_text(own_size(graph, name)), size_text(size_with_needs(graph, name))) if sizes else ()
    return (text, str(library.version) if library else "-", *weights, ", ".join(notes))


def _path(graph: Graph, path: tuple[Ask, ...]) -> str:
    """Such as `hivescale → nectarplot>=2 (2.1) → combframe>=2,<3`."""
    steps = [graph.who(path[0])]
    for ask in path:
        locked = graph.libraries.get(ask.name)
        text = need_text(ask.need, marker=False)
        if ask is not path[-1] and locked is not None:
            text = f"{text} ({locked.version})"
        steps.append(text + _condition(ask))
    return " → ".join(steps)


def _condition(ask: Ask) -> str:
    """Under which marker it is asked for; that an extra is asked for shows in the step before."""
    marker = str(ask.need.marker or "")
    return f" if {marker}" if marker and not (ask.extra and _ONLY_EXTRA.match(marker)) else ""


def _held(holder: Holder) -> list[str]:
    lines = []
    if holder.newest > holder.locked:
        lines.append(f"The newest release is {holder.newest}; what holds it back:")
        reasons = holder.by or (f"only the lock; to raise it: rabbet resolve --raise {holder.name}",)
        lines += [f"  {reason}" for reason in reasons]
    else:
        lines.append("It is at the newest release that can be used here.")
    if holder.out_of_reach:
        lines.append("Newer, but not usable here:")
        lines += [f"  {reason}" for reason in holder.out_of_reach]
    if holder.baseline:
        lines.append(f"To raise the baseline: rabbet declare --baseline {holder.baseline}")
    return lines


def _elsewhere(elsewhere: Elsewhere) -> list[str]:
    """Another target's version, and why it is no newer one."""
    told = f"{elsewhere.version} is locked where {elsewhere.where}"
    if elsewhere.holder is None or elsewhere.holder.newest <= elsewhere.version:
        beyond = elsewhere.holder.out_of_reach if elsewhere.holder else ()
        return [f"{told}{':' if beyond else '.'}", *(f"  {reason}" for reason in beyond)]
    reasons = elsewhere.holder.by or ("nothing but the lock holds it back",)
    return [f"{told}; {elsewhere.holder.newest} is newer there:", *(f"  {reason}" for reason in reasons)]


def _warn(explained: Explained, context: Context) -> None:
    if explained.outdated:
        context.show("The declaration changed since the lock; to take it in: rabbet resolve")
