"""The JSON documents of `explain`: one library, or the whole lock."""

from typing import ClassVar

from msgspec import Struct
from packaging.utils import NormalizedName

from rabbet.core.graph.graph import Ask, own_size, paths_to, sections_of, size_with_needs
from rabbet.core.graph.held_back import Holder
from rabbet.core.needs.wording import need_text
from rabbet.tasks.resolving.explain import Explained

__all__ = ["LibraryDocument", "WholeLockDocument"]


class LibraryDocument(Struct, frozen=True):
    """Who asks for one library, for which groups and extras, and what holds it back."""

    schema: ClassVar[str] = "explain"

    explained: Explained
    name: NormalizedName

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        explained, graph, name = self.explained, self.explained.graph, self.name
        sections, library = sections_of(graph, name), graph.libraries.get(name)
        return {
            "name": name,
            "version": str(library.version) if library else None,
            "project": None in sections,
            "groups": [section.name for section in sections if section and section.kind == "group"],
            "extras": [section.name for section in sections if section and section.kind == "extra"],
            "paths": [[_ask(ask) for ask in path] for path in paths_to(graph, name)],
            "notes": list(explained.notes),
            "held_back": _holder(explained.holders[0]) if explained.holders else None,
            "unasked": explained.unasked or None,
            "elsewhere": [
                {
                    "version": str(elsewhere.version),
                    "where": elsewhere.where,
                    "held_back": _holder(elsewhere.holder) if elsewhere.holder else None,
                }
                for elsewhere in explained.elsewhere
            ],
        }


class WholeLockDocument(Struct, frozen=True):
    """The whole graph, and what holds libraries back where that was asked for."""

    schema: ClassVar[str] = "explain-all"

    explained: Explained

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        graph = self.explained.graph
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
            "held_back": [_holder(holder) for holder in self.explained.holders],
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
