"""Completions of a command line for the shells, from files and the store, never from the network.

`argcomplete` speaks with the shell; here are the commands' parsers, of which only the one that was typed is
loaded, and the words that the project and the machine know.
"""

import os
from argparse import Action, ArgumentParser, Namespace
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from itertools import islice, pairwise
from pathlib import Path
from typing import TYPE_CHECKING

import argcomplete

from rabbet.cli.parsers import fill_parser
from rabbet.cli.registry import COMMANDS
from rabbet.core.limits import LONGEST_LINE
from rabbet.disk.named import path_named
from rabbet.errors import RabbetError, WrongUsage
from rabbet.workspace.machine import Machine

if TYPE_CHECKING:
    from rabbet.workspace.project import Project

__all__ = ["Words", "complete", "parser_of_line"]

_MOST = 200  # words that are offered at a time


def complete() -> None:
    """Answer the shell, which told the line in variables; does not return."""
    try:
        machine = Machine.of_this_process(offline=True, fresh_listings=False, attended=False)
    except WrongUsage:  # the current folder is gone
        raise SystemExit(1) from None
    line = machine.environ.get("COMP_LINE", "")
    words = Words(machine, _place_typed(line.split()))
    argcomplete.autocomplete(parser_of_line(line, words), always_complete_options=False)


def _place_typed(words: list[str]) -> str | None:
    """What stands behind `--in`, if anything does."""
    return next((place for option, place in pairwise(words) if option == "--in"), None)


def parser_of_line(line: str, words: "Words") -> ArgumentParser:
    """All commands, with the arguments of the one that the line begins with."""
    parser = ArgumentParser(prog="rabbet", add_help=False)
    for option in ("--help", "--version", "--trace"):
        parser.add_argument(option, action="store_true")
    commands = parser.add_subparsers()
    typed = next((word for word in line.split()[1:] if not word.startswith("-")), "")
    for name, (_, _, summary) in COMMANDS.items():
        command = commands.add_parser(name, help=summary, add_help=False)
        if name == typed:
            fill_parser(command, name)
            _attach(command, name, words)
    return parser


def _attach(parser: ArgumentParser, command: str, words: "Words") -> None:
    """Tell for each argument where its words come from."""
    for action in parser._actions:  # noqa: SLF001 - argparse has no other way to them
        known = words.of(command, action.dest)
        if action.dest == "command":
            action.completer = _Command(words.commands)  # type: ignore[attr-defined]
        elif known is not None:
            action.completer = _Completer(known)  # type: ignore[attr-defined]
        elif action.choices is None:
            action.completer = _files if _takes_files(action) else _Completer(lambda: ())  # type: ignore[attr-defined]


def _takes_files(action: Action) -> bool:
    shown = action.metavar if isinstance(action.metavar, str) else ""
    return shown in ("FILE", "FOLDER", "PATH", "PLACE", "STATE", "WHERE") or action.dest == "to"


class _Completer:
    """The words of one kind, read when they are asked for."""

    def __init__(self, words: Callable[[], Iterable[str]]) -> None:
        self._words = words

    def __call__(self, prefix: str, **_: object) -> list[str]:
        with suppress(RabbetError, OSError, ValueError):
            return list(islice(filter(_can_be_shown, _beginning(prefix, self._words())), _MOST))
        return []


class _Command:
    """A command of the environment, and files as its arguments."""

    def __init__(self, commands: Callable[[], Iterable[str]]) -> None:
        self._commands = _Completer(commands)

    def __call__(self, prefix: str, *, parsed_args: "Namespace | None" = None, **_: object) -> list[str]:
        given = [word for word in getattr(parsed_args, "command", None) or () if word != "--"]
        return _files(prefix) if given or "/" in prefix else self._commands(prefix)


def _beginning(prefix: str, words: Iterable[str]) -> Iterator[str]:
    return (word for word in words if word.startswith(prefix))


def _can_be_shown(word: str) -> bool:
    """Whether a word does nothing to a terminal; a project may call things as it likes."""
    return word.isprintable() and len(word) <= LONGEST_LINE


def _files(prefix: str, **_: object) -> list[str]:
    """Files and folders; the library's own would start a program to find them."""
    above, slash, name = prefix.rpartition("/")
    with suppress(OSError, ValueError, WrongUsage), os.scandir(path_named(above + slash, Path())) as entries:
        named = islice(_named(name, entries), _MOST)
        return sorted(f"{above}{slash}{entry.name}{'/' if entry.is_dir() else ''}" for entry in named)
    return []


def _named(name: str, entries: "Iterable[os.DirEntry[str]]") -> "Iterator[os.DirEntry[str]]":
    """The entries that begin so; hidden ones only where that is typed."""
    for entry in entries:
        hidden = entry.name.startswith(".") and not name.startswith(".")
        if entry.name.startswith(name) and not hidden and _can_be_shown(entry.name):
            yield entry


class Words:
    """The names that the current folder's project and this machine know."""

    def __init__(self, machine: Machine, place: str | None = None) -> None:
        """The project of the current folder, or of a `place` that is a folder or a name."""
        self._machine = machine
        self._place = place

    def of(self, command: str, argument: str) -> Callable[[], Iterable[str]] | None:
        """Where the words for a command's argument come from; `None` where nothing is known."""
        special: dict[tuple[str, str], Callable[[], Iterable[str]]] = {
            ("declare", "libraries"): self.versions,
            ("retract", "libraries"): self.declared,
            ("explain", "name"): self.locked,
            ("lookup", "name"): self.locked,
            ("envs", "folder"): self.environments,
            ("runtimes", "runtime"): self.languages,
            ("prove", "only"): self.declared,
            ("compare", "old"): self.states,
            ("compare", "new"): self.states,
        }
        general: dict[str, Callable[[], Iterable[str]]] = {
            "raised": self.locked,
            "raising": self.locked,
            "keep": self.locked,
            "library": self.locked,
            "group": self.groups,
            "extra": self.extras,
            "variant": self.variants,
            "place": self.places,
            "target": self.targets,
            "only": self.languages,
            "runtime": self.languages,
            "machine": self.labels,
            "label": self.labels,
            "good": self.states,
            "bad": self.states,
            "against": self.states,
        }
        if command in ("culprit", "carry") and argument == "keep":
            return None  # a folder
        return special.get((command, argument)) or general.get(argument)

    def places(self) -> list[str]:
        """Projects that have a name, and scripts in the current folder."""
        from rabbet.workspace.places import named_projects

        scripts = (path.name for path in islice(self._machine.folder.glob("*.py"), _MOST))
        return sorted([*(project.folder.name for project in named_projects(self._machine)), *scripts])

    def declared(self) -> list[str]:
        """Declared libraries."""
        return sorted({requirement.need.name for requirement in self._project().declaration().declared()})

    def locked(self) -> list[str]:
        """Locked libraries."""
        from rabbet.disk.text_file import read_text
        from rabbet.formats.lock_text import read_locked_versions

        return sorted(read_locked_versions(read_text(self._project().lock_file)).names)

    def versions(self) -> Iterator[str]:
        """Declared libraries, and each with the releases that the store has heard of."""
        from rabbet.python.sources.kinds.pages import known_versions
        from rabbet.tasks.more.status import indexes_of

        declaration = self._project().declaration()
        names = sorted({requirement.need.name for requirement in declaration.declared()})
        yield from names
        indexes = list(indexes_of(declaration, self._machine))
        for name in names:
            for address, pages in indexes:
                page = pages.recall(f"{address}/{name}/")
                for version in known_versions(page) if page else ():
                    yield f"{name}=={version}"

    def groups(self) -> list[str]:
        """Dependency groups."""
        return sorted(self._project().declaration().groups)

    def extras(self) -> list[str]:
        """Extras."""
        return sorted(self._project().declaration().extras)

    def variants(self) -> list[str]:
        """Variants."""
        return sorted(self._project().declaration().variants)

    def targets(self) -> list[str]:
        """Platforms that a lock can be made for."""
        from rabbet.python.choosing.targets import PLATFORMS

        return sorted(PLATFORMS)

    def languages(self) -> list[str]:
        """Languages whose runtimes are known."""
        from rabbet.workspace.runtimes.languages import languages_for

        with suppress(RabbetError):
            return sorted({"python", *languages_for(self._project().declaration(), self._machine)})
        return ["python"]

    def labels(self) -> list[str]:
        """Machines of the team whose inventories were collected."""
        from rabbet.net.git.shared_refs import collected_labels
        from rabbet.workspace.states.machines import census_group, census_repository

        project = self._project()
        return collected_labels(census_repository(project, self._machine), census_group(project))

    def states(self) -> list[str]:
        """States that are no files."""
        return ["installed", "git:HEAD", "env:.venv", *(f"machine:{label}" for label in self.labels())]

    def commands(self) -> list[str]:
        """What the environment's folder of programs holds."""
        return sorted(
            place.name for place in (self._project().environment / "bin").iterdir() if place.is_file()
        )

    def environments(self) -> list[str]:
        """Environments of this machine, by their projects' folders."""
        return sorted(str(root.parent) for root in self._machine.environments().known())

    def _project(self) -> "Project":
        from rabbet.workspace.places import named_folder
        from rabbet.workspace.project import DECLARATION, Project, find_project

        named = named_folder(self._place, self._machine) if self._place else None
        if named is not None and (named / DECLARATION).is_file():
            return Project(named)
        return find_project(path_named(self._place or "", self._machine.folder))
