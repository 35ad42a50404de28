"""From a changed declaration on to its lock and its environment, in one step."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.core.model.edit import Edit
from rabbet.core.progress import Observer
from rabbet.store.atomic import put_back_on_failure
from rabbet.tasks.declare import Edited, change
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project

if TYPE_CHECKING:
    from rabbet.tasks.recreate import RecreateReport
    from rabbet.tasks.resolve import Resolved

__all__ = ["Done", "carried_out"]


@dataclass(frozen=True, slots=True)
class Done:
    """What became of the declaration and, where that was asked for, of the lock and the environment."""

    edited: Edited
    resolved: "tuple[Resolved, ...]" = ()
    recreated: "RecreateReport | None" = None


def carried_out(
    project: Project, machine: Machine, observer: Observer, edits: Sequence[Edit], *, now: bool
) -> Done:
    """Change the declaration; `now` go on to resolve and recreate, and put all back if that fails.

    Raises what these raise.
    """
    if not now:
        return Done(change(project, machine, edits))
    from rabbet.tasks.recreate import recreate
    from rabbet.tasks.resolve import resolve
    from rabbet.tasks.resolve_targets import ResolveOptions
    from rabbet.workspace.selection import RecreateOptions

    def locks() -> list[Path]:
        return list(project.folder.glob("pylock*.toml"))

    # One at a time. The environment needs no such care: it is changed last, and either whole or not at all.
    claim = machine.store().claimed(str(project.declaration_file))
    with claim, put_back_on_failure([project.declaration_file, *locks()], new=locks):
        edited = change(project, machine, edits)
        resolved = resolve(project, machine, observer, ResolveOptions())
        return Done(edited, resolved, recreate(project, machine, observer, RecreateOptions()))
