"""What `explain` tells."""

import re
from typing import ClassVar

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text, table
from rabbet.core.graph.graph import Ask, Graph, own_size, size_with_needs
from rabbet.core.graph.held_back import Holder
from rabbet.core.graph.paths import Branch, paths_to, sections_of, tree
from rabbet.core.needs.wording import need_text
from rabbet.tasks.explain import Elsewhere, Explained

_SHOWN_PATHS = 8
_ONLY_EXTRA = re.compile(r'extra == "[^"]*"\Z')

__all__ = ["HeldBackView", "LibraryView", "TreeView"]


class LibraryView(Struct, frozen=True):
    """Who asks for one library, for which groups and extras, and what holds it back."""

    schema: ClassVar[str] = "explain"

    explained: Explained
    name: NormalizedName

    def show(self, context: Context) -> None:
        """Print all of it."""
        if self.name in self.explained.graph.libraries:
            self._show_here(context)
        else:
            context.show(f"This machine needs no {self.name}; other targets do.")
        for one in self.explained.elsewhere:
            for line in _elsewhere(one):
                context.show(line)
        _warn(self.explained, context)

    def _show_here(self, context: Context) -> None:
        """What is locked for this machine."""
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

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        explained, graph, name = self.explained, self.explained.graph, self.name
        sections, library = sections_of(graph, name), graph.libraries.get(name)
        return {
            "name": name,
            "version": str(library.version) if library else None,
            "project": None in sections,
            "groups": [section.name for section in sections if section and section.kind == "group"],
            "extras": [one.name for one in sections if one and one.kind == "extra"],
            "paths": [[_ask(ask) for ask in path] for path in paths_to(graph, name)],
            "notes": list(explained.notes),
            "held_back": _holder(explained.holders[0]) if explained.holders else None,
            "unasked": explained.unasked or None,
            "elsewhere": [
                {
                    "version": str(one.version),
                    "where": one.where,
                    "held_back": _holder(one.holder) if one.holder else None,
                }
                for one in explained.elsewhere
            ],
        }


class TreeView(Struct, frozen=True):
    """The whole graph, with `sizes` if these are wanted."""

    schema: ClassVar[str] = "explain-all"

    explained: Explained
    sizes: bool

    def show(self, context: Context) -> None:
        """Print one row a requirement."""
        graph, sizes = self.explained.graph, self.sizes
        declared = {ask.name for ask in graph.asks if ask.requirer is None}
        headings = ("asked for", "locked", *(("own", "with all it needs") if sizes else ()), "")
        rows = [_branch(graph, branch, declared, sizes=sizes) for branch in tree(graph)]
        for line in table(headings, rows, context.style):
            context.show(line)
        context.show()
        total = f", {size_text(sum(own_size(graph, name) for name in graph.libraries))}" if sizes else ""
        all_ = count(len(graph.libraries), "library")
        context.show(f"{all_} for {len(declared)} that {graph.project} declares{total}.")
        _warn(self.explained, context)

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return _whole_lock(self.explained)


class HeldBackView(Struct, frozen=True):
    """Every library that is not at its newest release."""

    schema: ClassVar[str] = "explain-all"

    explained: Explained

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
        if rows:
            for line in table(("library", "locked", "newest", "held by"), rows, context.style):
                context.show(line)
            context.show()
        held = sum(holder.newest > holder.locked for holder in explained.holders)
        all_ = len(explained.graph.libraries)
        outcome = f"{held} of {count(all_, 'library')} held below the newest release."
        context.show(outcome if held else "All are at the newest release that can be used here.")
        _warn(explained, context)

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return _whole_lock(self.explained)


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
        reasons = holder.by or (f"nothing but the lock; to take it: rabbet resolve --raise {holder.name}",)
        lines += [f"  {reason}" for reason in reasons]
    else:
        lines.append("It is at the newest release that can be used here.")
    if holder.out_of_reach:
        lines.append("Newer, but not usable here:")
        lines += [f"  {reason}" for reason in holder.out_of_reach]
    if holder.baseline:
        lines.append(f"To raise the baseline: rabbet declare --baseline {holder.baseline}")
    return lines


def _elsewhere(one: Elsewhere) -> list[str]:
    """Another target's version, and why it is no newer one."""
    told = f"{one.version} is locked where {one.where}"
    if one.holder is None or one.holder.newest <= one.version:
        beyond = one.holder.out_of_reach if one.holder else ()
        return [f"{told}{':' if beyond else '.'}", *(f"  {reason}" for reason in beyond)]
    reasons = one.holder.by or ("nothing but the lock holds it back",)
    return [f"{told}; {one.holder.newest} is newer there:", *(f"  {reason}" for reason in reasons)]


def _warn(explained: Explained, context: Context) -> None:
    if explained.outdated:
        context.show("The declaration changed since the lock; to take it in: rabbet resolve")


def _whole_lock(explained: Explained) -> dict[str, object]:
    """The content of the JSON document for the whole lock."""
    graph = explained.graph
    return {
        "project": graph.project,
        "libraries": [
            {
                "name": name,
                "version": str(library.version),
                "size": own_size(graph, name),
                "size_with_needs": size_with_needs(graph, name),
            }
            for name, library in graph.libraries.items()
        ],
        "asks": [_ask(ask) for ask in graph.asks],
        "held_back": [_holder(holder) for holder in explained.holders],
    }


def _ask(ask: Ask) -> dict[str, str | None]:
    section: dict[str, str] = {ask.section.kind: ask.section.name} if ask.section else {}
    return {"requirer": ask.requirer, **section, "requirement": need_text(ask.need)}


def _holder(holder: Holder) -> dict[str, object]:
    return {
        "name": holder.name,
        "locked": str(holder.locked),
        "newest": str(holder.newest),
        "by": list(holder.by),
        "out_of_reach": list(holder.out_of_reach),
    }
