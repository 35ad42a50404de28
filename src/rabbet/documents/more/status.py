"""The JSON document of `status`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.shell import variant_option
from rabbet.tasks.more.status import Status

__all__ = ["StatusDocument"]


class StatusDocument(Struct, frozen=True):
    """The table of what there is, and the next command."""

    schema: ClassVar[str] = "status"

    status: Status

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        status, locked, environment = self.status, self.status.locked, self.status.environment
        return {
            "project": status.declaration.name,
            "version": str(status.declaration.version) if status.declaration.version else None,
            "folder": str(status.folder),
            "variant": status.variant,
            "declared": len(list(status.declaration.declared())),
            "lock": {
                "file": locked.file,
                "libraries": locked.libraries,
                "since": int(locked.since),
                "out_of_date": locked.outdated,
                "wrong": locked.wrong or None,
                "edited": list(locked.edited),
            }
            if locked
            else None,
            "environment": {
                "root": str(environment.root),
                "python": str(environment.python) if environment.python else None,
                "since": int(environment.since),
                "fit": str(environment.fit),
            }
            if environment
            else None,
            "behind": [
                {"name": variant.name, "locked": str(variant.locked), "newest": str(variant.newest)}
                for variant in status.behind
            ],
            "census": _census_document(status),
            "next": f"rabbet {status.following}{variant_option(status.variant)}",
        }


def _census_document(status: Status) -> dict[str, object] | None:
    found = status.sending
    if not (found.when or status.declaration.census.every):
        return None
    return {
        "every": status.declaration.census.every or None,
        "agreed": found.agreed,
        "last": found.when or None,
        "where": found.where or None,
        "error": found.error or None,
    }
