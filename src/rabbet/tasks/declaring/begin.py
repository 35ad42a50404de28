"""Starting a declaration: a new `pyproject.toml`, or what an existing one lacks."""

import re
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct
from packaging.specifiers import SpecifierSet

from rabbet.core.declaration.model import Declaration, SourceEntry
from rabbet.core.model.runtime import PythonRuntime
from rabbet.core.needs.need import Need
from rabbet.core.needs.wording import specifiers_text
from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
from rabbet.disk.atomic import write_text
from rabbet.disk.text_file import read_text
from rabbet.errors import WrongUsage
from rabbet.formats.project.pyproject import read_declaration
from rabbet.formats.project.pyproject_edit import complete
from rabbet.runtimes.choose import newest_first
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import DECLARATION, Project
from rabbet.workspace.runtimes.pythons import found_pythons
from rabbet.workspace.session import Session

if TYPE_CHECKING:
    from rabbet.tasks.recreating.now import BroughtUp

__all__ = [
    "Answers",
    "Draft",
    "checked_name",
    "default_name",
    "draft",
    "existing",
    "left_to_build",
    "offered_runtimes",
    "save",
    "save_now",
    "unfit_runtime",
]

_NAME = re.compile(r"^[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?\Z")


class Answers(Struct, frozen=True, kw_only=True):
    """The first content of a declaration; `python` holds version specifiers, empty for any version.

    `named` tells that the name was given, and is no default.
    """

    name: str
    python: str
    source: str | None
    needs: Sequence[Need] = ()
    named: bool = False


class Draft(Struct, frozen=True, kw_only=True):
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
    for runtime in newest_first(found_pythons(machine)):
        newest.setdefault(runtime.version.release[:2], runtime)
    return list(newest.values())


def unfit_runtime(python: str, machine: Machine) -> str:
    """A sentence where no interpreter of this machine meets the versions; empty where one does."""
    found = offered_runtimes(machine)
    if not python or any(SpecifierSet(python).contains(runtime.version) for runtime in found):
        return ""
    here = ", ".join(runtime.minor for runtime in found) or "none"
    return f"No Python on this machine is python{python} (found: {here})."


def existing(folder: Path) -> Declaration | None:
    """The declaration that is there already, or what a `setup.py` stands for. Raises `NotUnderstood`."""
    path, has_setup = folder / DECLARATION, (folder / "setup.py").is_file()
    if not (path.exists() or has_setup):
        return None
    text = read_text(path, by_hand=True) if path.exists() else ""
    return read_declaration(text, folder_name=folder.name, has_setup=has_setup)


def draft(folder: Path, answers: Answers) -> Draft:
    """The declaration as it would be written. Raises `WrongUsage`, `NotUnderstood`."""
    present, path = existing(folder), folder / DECLARATION
    if present is not None:
        _refuse_others(present, answers)
    before = read_text(path, by_hand=True) if path.exists() else None
    after = complete(
        before or "",
        name=checked_name(answers.name),
        python=answers.python,
        sources=[SourceEntry(name="main", url=answers.source)] if answers.source else [],
        needs=answers.needs,
        by_build=present.by_build if present else (),
    )
    return Draft(path=path, before=before, after=after)


def checked_name(name: str) -> str:
    """A project's name. Raises `WrongUsage` for what can't be one."""
    if not _NAME.match(name):
        raise WrongUsage(
            f"'{name}' can't be a project's name",
            because=["it takes letters, digits, '.', '_' and '-', with a letter or digit at both ends"],
        )
    return name


def _refuse_others(present: Declaration, answers: Answers) -> None:
    """Raise `WrongUsage` for answers that an existing declaration gives otherwise, and would keep."""
    because, options = [], []
    if answers.needs and "dependencies" in present.by_build:
        raise left_to_build("what the project needs")
    if answers.named and answers.name != present.name:
        because.append(f"its name is {present.name}, not {answers.name}: only you can change that there")
    if answers.python and present.python and answers.python != specifiers_text(present.python):
        because.append(f"it declares python{specifiers_text(present.python)}")
        options.append(f"--runtime {quoted('python' + answers.python)}")
    if (
        answers.source
        and present.sources
        and answers.source not in {source.url for source in present.sources}
    ):
        because.append(f"it declares the source {', '.join(source.name for source in present.sources)}")
        options.append(f"--source {quoted('other=' + answers.source)}")
    if because:
        remedy = f"rabbet declare {' '.join(options)}" if options else "rabbet declare"
        raise WrongUsage(
            "pyproject.toml is there already, and says otherwise", because=because, remedy=remedy
        )


def left_to_build(what: str) -> WrongUsage:
    """The error for an entry that only the files which the project's build reads can have."""
    return WrongUsage(
        f"{what} is computed by the project's build, so it can't be declared here",
        because=["pyproject.toml leaves it to that: it has no [project], or calls it dynamic there"],
        note="it can be changed where the build reads it, such as setup.py or setup.cfg",
        remedy="rabbet declare",
    )


def save_now(written: Draft, machine: Machine, observer: Observer) -> "BroughtUp":
    """Write the declaration, resolve and recreate; if that fails, nothing is written. Raises as these."""
    from rabbet.tasks.recreating.now import all_or_nothing, both  # here: few begin so

    session = Session(Project(written.path.parent), machine, observer)
    with all_or_nothing(session):
        save(written)
        return both(session)


def save(written: Draft) -> None:
    """Write the declaration. Raises `CannotWrite`."""
    write_text(written.path, written.after)
