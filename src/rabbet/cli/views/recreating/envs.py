"""The view of `envs`."""

from pathlib import Path

from rabbet.cli.context import Context
from rabbet.documents.amounts import count, size_text
from rabbet.documents.recreating.envs import EnvironmentsDocument, state_text
from rabbet.tasks.recreating.envs import KnownEnvironment

__all__ = ["EnvironmentsView"]

_NARROWEST, _OTHER_COLUMNS = 20, 52  # characters


class EnvironmentsView(EnvironmentsDocument, frozen=True):
    """The environments of this machine, one row each."""

    def show(self, context: Context) -> None:
        """Print one row an environment."""
        home = context.machine.home
        most = max(_NARROWEST, context.style.width - _OTHER_COLUMNS) if context.style.width else 0
        rows = [
            (
                _short(environment.root, home, most),
                str(environment.python or "-"),
                _chosen(environment),
                size_text(environment.size.own),
                size_text(environment.size.shared),
                state_text(environment) + (", active" if environment.active else ""),
            )
            for environment in self.found
        ]
        if rows:
            headings = ("environment", "python", "parts", "own", "shared", "state")
            context.show_table(headings, rows)
            context.show()
        fitting = sum(environment.unfit is None for environment in self.found)
        context.show(f"{count(len(self.found), 'environment')} on this machine; as locked: {fitting}.")


def _short(root: Path, home: Path, most: int) -> str:
    """Where an environment lies; of a path that is longer than so many characters the end, which tells it."""
    shown = f"~/{root.relative_to(home)}" if home in root.parents else str(root)
    return shown if not most or len(shown) <= most else f"…{shown[len(shown) - most + 1 :]}"


def _chosen(environment: KnownEnvironment) -> str:
    """The groups and extras that it holds."""
    if environment.groups is None or environment.extras is None:
        return "all"
    return ", ".join((*environment.extras, *environment.groups)) or "none"
