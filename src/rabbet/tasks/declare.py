"""Changing what a project declares: requirements and the runtime's constraint."""

from collections.abc import Sequence
from dataclasses import dataclass

from packaging.utils import canonicalize_name

from rabbet.core.wording import specifiers_text
from rabbet.errors import WrongUsage
from rabbet.formats.pyproject_edit import Change, put_requirement, put_runtime, take_requirement
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
    project: Project, requirements: Sequence[str], *, group: str | None, runtime: str | None
) -> Edited:
    """Add or change requirements, and the runtime's constraint; all of them or, on an error, nothing.

    Raises `NotUnderstood` for what does not parse, `CannotWrite`.
    """
    parsed = [parse_requirement(text) for text in requirements]
    project.declaration()
    before = text = read_text(project.declaration_file)
    changes = []
    if runtime is not None:
        text, change = put_runtime(text, specifiers_text(parse_runtime(runtime)))
        changes.append(change)
    for requirement in parsed:
        text, change = put_requirement(text, requirement, group=group)
        changes.append(change)
    _save(project, before, text)
    return Edited(tuple(changes))


def retract(project: Project, names: Sequence[str], *, group: str | None) -> Edited:
    """Take libraries out of the declaration; all of them or, on an error, nothing.

    Without a group a library is taken out of wherever it is declared.
    Raises `WrongUsage` for one that is not declared, `CannotWrite`.
    """
    declaration = project.declaration()
    before = text = read_text(project.declaration_file)
    wanted = None if group is None else canonicalize_name(group)
    places = [name for name in (None, *declaration.groups) if wanted is None or name == wanted]
    changes: list[Change] = []
    for name in names:
        taken: list[Change] = []
        for place in places:
            text, removed = take_requirement(text, parse_requirement(name).name, group=place)
            taken += removed
        if not taken:
            declared = sorted({one.requirement.name for one in declaration.declared()})
            raise WrongUsage(
                f"'{name}' is not declared" + (f" in the group {group}" if group else ""),
                because=[f"declared are: {', '.join(declared) or 'no libraries'}"],
            )
        changes += taken
    _save(project, before, text)
    return Edited(tuple(changes))


def _save(project: Project, before: str, after: str) -> None:
    if after != before:
        write_text(project.declaration_file, after)
