"""Changing what a project declares: requirements and the runtime's constraint."""

from collections.abc import Sequence
from dataclasses import dataclass

from rabbet.core.model.declaration import Section
from rabbet.core.targets import PLATFORMS
from rabbet.core.wording import specifiers_text
from rabbet.errors import WrongUsage
from rabbet.formats.pyproject import read_declaration
from rabbet.formats.pyproject_edit import (
    Change,
    put_requirement,
    put_runtime,
    put_targets,
    take_requirement,
)
from rabbet.formats.requirement import parse_requirement, parse_runtime
from rabbet.store.atomic import write_text
from rabbet.tasks.project import Project, read_text

__all__ = ["Edited", "declare", "retract"]


@dataclass(frozen=True, slots=True)
class Edited:
    """What became of each entry that was named."""

    changes: tuple[Change, ...]

    @property
    def changed(self) -> bool:
        """Whether the declaration differs from before."""
        return any(change.happened for change in self.changes)


def declare(
    project: Project,
    requirements: Sequence[str],
    *,
    section: Section | None = None,
    runtime: str | None = None,
    targets: Sequence[str] = (),
) -> Edited:
    """Add or change requirements, the runtime's constraint, targets; all of them or, on an error, nothing.

    Raises `NotUnderstood` for what does not parse, `WrongUsage` for an unknown target, `CannotWrite`.
    """
    for target in targets:
        if target not in PLATFORMS:
            raise WrongUsage(f"'{target}' is no target", because=[f"known are: {', '.join(PLATFORMS)}"])
    parsed = [parse_requirement(text) for text in requirements]
    project.declaration()
    before = text = read_text(project.declaration_file)
    changes = []
    if runtime is not None:
        text, change = put_runtime(text, specifiers_text(parse_runtime(runtime)))
        changes.append(change)
    if targets:
        text, added = put_targets(text, targets)
        changes += added
    for requirement in parsed:
        text, change = put_requirement(text, requirement, section=section)
        changes.append(change)
    _save(project, before, text)
    return Edited(tuple(changes))


def retract(project: Project, names: Sequence[str], *, section: Section | None) -> Edited:
    """Take libraries out of the declaration; all of them or, on an error, nothing.

    Without a section a library is taken out of wherever it is declared.
    Raises `WrongUsage` for one that is not declared, `CannotWrite`.
    """
    declaration = project.declaration()
    before = text = read_text(project.declaration_file)
    places = [one for one in (None, *declaration.sections) if section is None or one == section]
    changes: list[Change] = []
    for name in names:
        taken: list[Change] = []
        for place in places:
            text, removed = take_requirement(text, parse_requirement(name).name, section=place)
            taken += removed
        if not taken:
            declared = sorted({one.requirement.name for one in declaration.declared()})
            raise WrongUsage(
                f"'{name}' is not declared" + (f" in the {section}" if section else ""),
                because=[f"declared are: {', '.join(declared) or 'no libraries'}"],
            )
        changes += taken
    _save(project, before, text)
    return Edited(tuple(changes))


def _save(project: Project, before: str, after: str) -> None:
    """Write what was changed, if it can be read again. Raises `NotUnderstood`, as for a nameless group."""
    if after != before:
        read_declaration(after, folder_name=project.folder.name)
        write_text(project.declaration_file, after)
