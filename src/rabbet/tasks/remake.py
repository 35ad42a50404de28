"""Making an environment again that was made from the very same inputs before, without working it out anew.

It serves who deletes an environment and wants it back, and who has one project in many folders. This module
imports little; whatever is not as it was leads to the long way (`rabbet.tasks.recreate`).
"""

from collections.abc import Iterable
from contextlib import suppress
from typing import TYPE_CHECKING

from rabbet.environment.beside import leftovers, taking_place_of
from rabbet.environment.pattern import (
    Pattern,
    StoreChanged,
    follow_pattern,
    pattern_of,
    read_pattern,
    write_pattern,
)
from rabbet.store.atomic import cannot_write
from rabbet.store.claims import claimed
from rabbet.store.environments import Environments
from rabbet.store.memory import Memory
from rabbet.tasks.machine import Machine
from rabbet.tasks.progress import Observer
from rabbet.tasks.project import Project
from rabbet.tasks.unchanged import digest_of

if TYPE_CHECKING:
    from rabbet.environment.install import Placed

__all__ = ["remake", "remember_pattern"]


def remake(project: Project, machine: Machine, observer: Observer) -> Pattern | None:
    """Make the environment by its pattern, unless there is one already, or no pattern that can be followed.

    Raises `CannotWrite`.
    """
    home = project.environment
    with suppress(OSError):
        content = _memory(machine).recall(_key(project, machine))
        pattern = read_pattern(content) if content else None
        if pattern is None:
            return None
        with claimed(machine.store_folder(), str(home)):
            if home.exists() or home.is_symlink() or leftovers(home):
                return None
            observer.stage("installing", len(pattern.libraries))
            try:
                with taking_place_of(home) as root, cannot_write(home):
                    follow_pattern(pattern, str(root))
            except StoreChanged:
                return None
        Environments(machine.store_folder() / "environments").note(home)
        return pattern
    return None


def remember_pattern(
    project: Project,
    machine: Machine,
    placed: "Iterable[Placed]",
    libraries: Iterable[tuple[str, str]],
    runtime: str,
) -> None:
    """Keep the pattern of the environment that was just made."""
    with suppress(OSError):
        pattern = pattern_of(project.environment, placed, libraries, runtime)
        _memory(machine).remember(_key(project, machine), write_pattern(pattern))


def _memory(machine: Machine) -> Memory:
    return Memory(machine.store_folder() / "patterns")


def _key(project: Project, machine: Machine) -> str:
    """One for all folders that the same project lies in: nothing of an environment depends on its place."""
    return f"{digest_of(project, machine)}{project.environment.name}"
