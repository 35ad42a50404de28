"""What `envs` lists."""

from collections.abc import Sequence
from pathlib import Path

from rabbet.cli.context import Context
from rabbet.cli.style import count, size_text, table
from rabbet.tasks.envs import Known

__all__ = ["document", "show"]


def show(found: Sequence[Known], context: Context) -> None:
    """Print one row an environment."""
    home = context.machine.home
    rows = [
        (
            one.project,
            _short(one.root, home),
            one.python or "-",
            _chosen(one),
            size_text(one.size.own),
            size_text(one.size.shared),
            one.state + (", active" if one.active else ""),
        )
        for one in found
    ]
    if rows:
        headings = ("project", "environment", "python", "parts", "own", "shared", "state")
        for line in table(headings, rows, context.style):
            context.show(line)
        context.show()
    fitting = sum(one.state == "fits" for one in found)
    context.show(f"{count(len(found), 'environment')} on this machine; as locked: {fitting}.")


def _short(root: Path, home: Path) -> str:
    return f"~/{root.relative_to(home)}" if home in root.parents else str(root)


def _chosen(one: Known) -> str:
    """The groups and extras that it holds."""
    if one.groups is None or one.extras is None:
        return "all"
    return ", ".join((*one.extras, *one.groups)) or "none"


def document(found: Sequence[Known]) -> dict[str, object]:
    """The content of the JSON document."""
    return {
        "environments": [
            {
                "folder": str(one.root),
                "project": one.project,
                "python": one.python or None,
                "groups": one.groups,
                "extras": one.extras,
                "own_size": one.size.own,
                "shared_size": one.size.shared,
                "fits": one.state == "fits",
                "state": one.state,
                "active": one.active,
            }
            for one in found
        ]
    }
