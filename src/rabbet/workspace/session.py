"""One project on one machine, and who watches the work on it: what the tasks are given."""

from typing import TYPE_CHECKING, NamedTuple

from rabbet.core.progress import Observer, Silent
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project

if TYPE_CHECKING:
    from rabbet.core.declaration.model import Declaration
    from rabbet.core.model.lock import Lock

__all__ = ["Session"]


class Session(NamedTuple):
    """A project, the machine that it is worked on, and the observer that is told how the work goes."""

    project: Project
    machine: Machine
    observer: Observer = Silent()

    def of(self, variant: str | None) -> "Session":
        """The same for a variant of the project, or (`None`) for the project itself."""
        return self._replace(project=self.project.of(variant))

    def silent(self) -> "Session":
        """The same, with nobody told."""
        return self._replace(observer=Silent())

    def refuse_unknown_variant(self) -> None:
        """Raise `WrongUsage` for a variant that is not declared, before its missing files are reported."""
        if self.project.variant is not None:
            self.declaration()

    def declaration(self) -> "Declaration":
        """The declaration. Raises as `Project.declaration`."""
        return self.project.declaration()

    def lock(self) -> "Lock":
        """The lock; the machine caches large ones. Raises `NoLock`, `NotUnderstood`."""
        return self.project.lock(self._parse)

    def parsed_lock(self, text: str, file: str) -> "Lock":
        """The lock that a text holds, called by its file's name. Raises `NotUnderstood`."""
        return self.project.parsed_lock(text, file, self._parse)

    def _parse(self, text: str) -> dict[str, object]:
        from rabbet.workspace.parsed_locks import known_content

        return known_content(text, self.machine)
