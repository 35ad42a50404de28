"""From a changed declaration on to its lock and its environment, in one step."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.core.model.edit import Edit
from rabbet.store.atomic import write_text
from rabbet.tasks.declare import Edited, change
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project, read_text

if TYPE_CHECKING:
    from rabbet.tasks.recreate import Outlook
    from rabbet.tasks.resolve import Resolved

__all__ = ["Done", "carried_out"]


@dataclass(frozen=True, slots=True)
class Done:
    """What became of the declaration and, where that was asked for, of the lock and the environment."""

    edited: Edited
    resolved: "tuple[Resolved, ...]" = ()
    recreated: "Outlook | None" = None


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
    from rabbet.tasks.selection import Wish
    from rabbet.tasks.settle import Aim

    with _put_back_on_failure(project):
        edited = change(project, machine, edits)
        resolved = resolve(project, machine, observer, Aim())
        return Done(edited, resolved, recreate(project, machine, observer, Wish()))


@contextmanager
def _put_back_on_failure(project: Project) -> Iterator[None]:
    """The declaration and the locks stay as they were when something is raised.

    The environment needs no care: it is changed last, and either whole or not at all.
    """
    files = [project.declaration_file, *project.folder.glob("pylock*.toml")]
    before = {path: read_text(path) for path in files if path.is_file()}
    try:
        yield
    except BaseException:
        for path in {*files, *project.folder.glob("pylock*.toml")}:
            _put_back(path, before.get(path))
        raise


def _put_back(path: Path, text: str | None) -> None:
    if text is None:
        path.unlink(missing_ok=True)
    elif read_text(path) != text:
        write_text(path, text)
