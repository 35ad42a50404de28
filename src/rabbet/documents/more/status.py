"""The JSON document of `status`."""

from typing import ClassVar

from msgspec import Struct

from rabbet.core.shell import variant_option
from rabbet.documents.drifting.rules import breach_document
from rabbet.documents.more.past import revision_document
from rabbet.tasks.more.status import Environment, Locked, Status
from rabbet.workspace.states.visits import SinceVisit

__all__ = ["StatusDocument"]


class StatusDocument(Struct, frozen=True):
    """The table of what there is, and the next command."""

    schema: ClassVar[str] = "status"

    status: Status

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        status = self.status
        return {
            "project": status.declaration.name,
            "version": str(status.declaration.version) if status.declaration.version else None,
            "folder": str(status.folder),
            "variant": status.variant,
            "declared": len(list(status.declaration.declared())),
            "lock": _lock_document(status.locked),
            "environment": _environment_document(status.environment),
            "since_visit": _since_document(status.since),
            "runtimes": [
                {
                    "language": runtime.language,
                    "version": str(runtime.version),
                    "linked": runtime.linked or None,
                    "there": runtime.there,
                }
                for runtime in status.runtimes
            ],
            "system": {
                "declared": {name: list(packages) for name, packages in status.declaration.system.items()},
                "lacking": list(status.system.lacking),
                "unknown": status.system.unknown or None,
            },
            "variants": [
                {
                    "name": variant.name,
                    "lock": _lock_document(variant.locked),
                    "environment": _environment_document(variant.environment),
                }
                for variant in status.variants
            ],
            "behind": [
                {"name": behind.name, "locked": str(behind.locked), "newest": str(behind.newest)}
                for behind in status.behind
            ],
            "rules": {
                "broken": [breach_document(breach) for breach in status.rules.broken],
                "unknown": status.rules.unknown or None,
            }
            if status.rules
            else None,
            "census": _census_document(status),
            "next": f"rabbet {status.following}{variant_option(status.variant)}",
        }


def _lock_document(locked: Locked | None) -> dict[str, object] | None:
    if locked is None:
        return None
    return {
        "file": locked.file,
        "libraries": locked.libraries,
        "since": int(locked.since),
        "out_of_date": locked.outdated,
        "wrong": locked.wrong or None,
        "edited": list(locked.edited),
    }


def _environment_document(environment: Environment | None) -> dict[str, object] | None:
    if environment is None:
        return None
    return {
        "root": str(environment.root),
        "python": str(environment.python) if environment.python else None,
        "since": int(environment.since),
        "fit": str(environment.fit),
        "chosen": None if environment.chosen is None else list(environment.chosen),
    }


def _since_document(since: SinceVisit | None) -> dict[str, object] | None:
    if since is None:
        return None
    return {
        "visited": since.when,
        "revisions": [revision_document(revision) for revision in since.revisions],
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
