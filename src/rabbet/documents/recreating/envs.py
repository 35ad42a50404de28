"""The JSON document of `envs`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.recreating.envs import KnownEnvironment

__all__ = ["EnvironmentsDocument", "state_text"]


class EnvironmentsDocument(Struct, frozen=True):
    """The environments of this machine, one row each."""

    schema: ClassVar[str] = "envs"

    found: Sequence[KnownEnvironment]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "environments": [
                {
                    "folder": str(environment.root),
                    "project": environment.project,
                    "place": environment.place or None,
                    "python": str(environment.python) if environment.python else None,
                    "groups": environment.groups,
                    "extras": environment.extras,
                    "own_size": environment.size.own,
                    "shared_size": environment.size.shared,
                    "fits": environment.unfit is None if environment.checked or environment.unfit else None,
                    "used": int(environment.used) if environment.used else None,
                    "state": state_text(environment),
                    "active": environment.active,
                }
                for environment in self.found
            ]
        }


def state_text(environment: KnownEnvironment) -> str:
    """Whether an environment fits its lock, or why not; without a check, whether it was made from it."""
    return environment.unfit or ("fits" if environment.checked else "from its lock")
