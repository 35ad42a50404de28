"""Starting a declaration: a new `pyproject.toml`, or what an existing one lacks."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from packaging.requirements import Requirement

from rabbet.core.model.declaration import Declaration, SourceEntry
from rabbet.core.model.runtime import PythonRuntime
from rabbet.errors import WrongUsage
from rabbet.formats.pyproject import read_declaration
from rabbet.formats.pyproject_edit import complete
from rabbet.runtimes.choose import newest_first
from rabbet.store.atomic import write_text
from rabbet.tasks.machine import Machine
from rabbet.tasks.project import DECLARATION, read_text
from rabbet.tasks.runtime import found_runtimes

__all__ = ["Answers", "Draft", "default_name", "draft", "existing", "offered_runtimes", "save"]

_NAME = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?\Z")


@dataclass(frozen=True, slots=True, kw_only=True)
class Answers:
    """What a declaration starts with; `python` are version specifiers, empty for any version."""

    name: str
    python: str
    source: str | None
    requirements: Sequence[Requirement] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Draft:
    """A declaration's text before and after; `before` is `None` for a new file."""

    path: Path
    before: str | None
    after: str

    @property
    def changed(self) -> bool:
        """Whether there is anything to write."""
        return self.before != self.after


def default_name(folder: Path) -> str:
    """A project name made of the folder's."""
    return re.sub(r"[^A-Za-z0-9]+", "-", folder.name).strip("-").lower() or "project"


def offered_runtimes(machine: Machine) -> list[PythonRuntime]:
    """One interpreter for each pair of first version numbers on this machine, the newest first."""
    newest: dict[tuple[int, ...], PythonRuntime] = {}
    for runtime in newest_first(found_runtimes(machine)):
        newest.setdefault(runtime.version.release[:2], runtime)
    return list(newest.values())


def existing(folder: Path) -> Declaration | None:
    """The declaration that is there already, if one is. Raises `NotUnderstood`."""
    path = folder / DECLARATION
    return read_declaration(read_text(path, by_hand=True), folder_name=folder.name) if path.exists() else None


def draft(folder: Path, answers: Answers) -> Draft:
    """The declaration as it would be written. Raises `WrongUsage`, `NotUnderstood`."""
    if not _NAME.match(answers.name):
        raise WrongUsage(
            f"'{answers.name}' can't be a project's name",
            because=["it takes letters, digits, '.', '_' and '-', with a letter or digit at both ends"],
        )
    before = None if existing(folder) is None else read_text(folder / DECLARATION)
    after = complete(
        before or "",
        name=answers.name,
        python=answers.python,
        sources=[SourceEntry(name="main", url=answers.source)] if answers.source else [],
        requirements=answers.requirements,
    )
    return Draft(path=folder / DECLARATION, before=before, after=after)


def save(written: Draft) -> None:
    """Write the declaration. Raises `CannotWrite`."""
    write_text(written.path, written.after)
