"""The JSON document of `compare`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.lock.differences import Difference
from rabbet.documents.drifting.rules import breach_document
from rabbet.tasks.resolving.compare import Compared

__all__ = ["CompareDocument"]


class CompareDocument(Struct, frozen=True):
    """The differences between two locks, each with the declared change that caused it."""

    schema: ClassVar[str] = "compare"

    compared: Compared

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        compared = self.compared
        return {
            "old": compared.old,
            "new": compared.new,
            "declared": [
                {"name": change.name, "before": change.before or None, "after": change.after or None}
                for change in compared.declared
            ],
            "differences": [_difference(difference) for difference in compared.differences],
            "rules": {
                "opened": [breach_document(breach) for breach in compared.opened],
                "closed": [breach_document(breach) for breach in compared.closed],
                "unknown": compared.unknown_rules or None,
            },
        }


def _difference(difference: Difference) -> dict[str, object]:
    return {
        "kind": str(difference.kind),
        "name": difference.name,
        "before": [str(version) for version in difference.before],
        "after": [str(version) for version in difference.after],
        "cause": difference.cause,
    }
