"""The JSON documents of `declare` and `retract`."""

from typing import ClassVar

from msgspec import Struct
from msgspec.structs import asdict

from rabbet.core.declaration.edit import EditResult
from rabbet.core.declaration.entries import entries
from rabbet.core.declaration.model import Declaration
from rabbet.tasks.declaring.declare import Done

__all__ = ["ChangesDocument", "EntriesDocument", "verb_of"]


class ChangesDocument(Struct, frozen=True):
    """Each entry's outcome, and that of resolving and recreating where they followed at once, or would."""

    schema: ClassVar[str] = "changes"

    done: Done

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        edited = self.done.edited
        return {
            "changed": edited.changed,
            "changes": [{"change": verb_of(change), **asdict(change)} for change in edited.changes],
            "kept": list(edited.kept),
            "as_runtimes": list(edited.runtimes),
            **self._carried_out(),
        }

    def _carried_out(self) -> dict[str, object]:
        """The outcome for the lock and the environment, if the change went on to them."""
        if not self.done.resolved:
            return {}
        from rabbet.documents.resolving.resolve import ResolvedDocument

        if self.done.recreated is None:
            return {"resolve": ResolvedDocument(self.done.resolved, written=False).document()}
        from rabbet.documents.recreating.recreate import RecreateDocument

        recreated = RecreateDocument(self.done.recreated, done=True)
        return {"resolve": ResolvedDocument(self.done.resolved).document(), "recreate": recreated.document()}


class EntriesDocument(Struct, frozen=True):
    """All that is declared."""

    schema: ClassVar[str] = "declared"

    declaration: Declaration

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        found = [{"what": entry.what, "entry": entry.text} for entry in entries(self.declaration)]
        return {"project": self.declaration.name, "entries": found}


def verb_of(change: EditResult) -> str:
    """The word or two for an entry's outcome."""
    if not change.happened:
        return "declared already"
    if not change.before:
        return "added"
    return "changed" if change.after else "removed"
