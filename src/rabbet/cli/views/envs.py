"""What `envs` lists."""

from collections.abc import Sequence
from pathlib import Path
from typing import ClassVar

from msgspec import Struct

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text, table
from rabbet.tasks.envs import Known

__all__ = ["EnvironmentsView"]


class EnvironmentsView(Struct, frozen=True):
    """The environments of this machine, one row each."""

    schema: ClassVar[str] = "envs"

    found: Sequence[Known]

    def show(self, context: Context) -> None:
        """Print one row an environment."""
        home = context.machine.home
        rows = [
            (
                one.project,
                _short(one.root, home),
                str(one.python or "-"),
                _chosen(one),
                size_text(one.size.own),
                size_text(one.size.shared),
                _state(one) + (", active" if one.active else ""),
            )
            for one in self.found
        ]
        if rows:
            headings = ("project", "environment", "python", "parts", "own", "shared", "state")
            for line in table(headings, rows, context.style):
                context.show(line)
            context.show()
        fitting = sum(one.unfit is None for one in self.found)
        context.show(f"{count(len(self.found), 'environment')} on this machine; as locked: {fitting}.")

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
                    "state": _state(one),
                    "active": one.active,
                }
                for one in self.found
            ]
        }


def _state(one: Known) -> str:
    return one.unfit or "fits"


def _short(root: Path, home: Path) -> str:
    return f"~/{root.relative_to(home)}" if home in root.parents else str(root)


def _chosen(one: Known) -> str:
    """The groups and extras that it holds."""
    if one.groups is None or one.extras is None:
        return "all"
    return ", ".join((*one.extras, *one.groups)) or "none"
