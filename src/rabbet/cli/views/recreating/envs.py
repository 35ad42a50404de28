"""The view of `envs`."""

from pathlib import Path

from rabbet.cli.context import Context
from rabbet.documents.amounts import count, size_text
from rabbet.documents.recreating.envs import EnvironmentsDocument, state_text
from rabbet.tasks.recreating.envs import KnownEnvironment

__all__ = ["EnvironmentsView"]


class EnvironmentsView(EnvironmentsDocument, frozen=True):
    """The environments of this machine, one row each."""

    def show(self, context: Context) -> None:
        """Print one row an environment."""
        home = context.machine.home
        rows = [
            (
                environment.project,
                _short(environment.root, home),
                str(environment.python or "-"),
                _chosen(environment),
                size_text(environment.size.own),
                size_text(environment.size.shared),
                state_text(environment) + (", active" if environment.active else ""),
            )
            for environment in self.found
        ]
        if rows:
            headings = ("project", "environment", "python", "parts", "own", "shared", "state")
            context.show_table(headings, rows)
            context.show()
        fitting = sum(environment.unfit is None for environment in self.found)
        context.show(f"{count(len(self.found), 'environment')} on this machine; as locked: {fitting}.")


def _short(root: Path, home: Path) -> str:
    return f"~/{root.relative_to(home)}" if home in root.parents else str(root)


def _chosen(environment: KnownEnvironment) -> str:
    """The groups and extras that it holds."""
    if environment.groups is None or environment.extras is None:
        return "all"
    return ", ".join((*environment.extras, *environment.groups)) or "none"
