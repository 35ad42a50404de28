"""The JSON document of `envs`."""

from collections.abc import Sequence
from typing import ClassVar

from msgspec import Struct

from rabbet.tasks.recreating.envs import Known

__all__ = ["EnvironmentsDocument", "state_text"]


class EnvironmentsDocument(Struct, frozen=True):
    """The environments of this machine, one row each."""

    schema: ClassVar[str] = "envs"

    found: Sequence[Known]

    def document(self) -> dict[str, object]:
        """The content of the JSON document."""
        return {
            "environments": [
                {
                    "folder": str(one.root),
                    "project": one.project,
                    "python": str(one.python) if one.python else None,
                    "groups": one.groups,
                    "extras": one.extras,
                    "own_size": one.size.own,
                    "shared_size": one.size.shared,
                    "fits": one.unfit is None,
                    "state": state_text(one),
                    "active": one.active,
                }
                for one in self.found
            ]
        }


def state_text(one: Known) -> str:
    """Whether an environment fits its lock, or why not."""
    return one.unfit or "fits"
