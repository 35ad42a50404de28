"""Lending: an environment's commands in the user's folder for programs, for every folder.

    DATA/lent/LIBRARY/…        a project with nothing but the library whose commands are lent
    DATA/lent/NAME.json        what is lent: of which library, from which place, as which programs

A launcher is a few lines for a shell, which becomes the environment's own command: Rabbet takes no part in
that. It is known by what it begins with, so nobody else's program is ever replaced or removed.
"""

import os
import re
import shlex
import shutil
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import closing, suppress
from pathlib import Path

import msgspec
from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.limits import MOST_BY_HAND, MOST_TEXT_FILE
from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need
from rabbet.core.progress import Observer
from rabbet.core.shell import quoted
from rabbet.disk.atomic import cannot_write, write_bytes
from rabbet.disk.folder import make_folder
from rabbet.disk.guarded import GuardedFolder
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.errors import CannotWrite, EnvironmentFailed, RabbetError, WrongUsage
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.layout import Layout, commands_in, interpreter_in
from rabbet.python.environment.put.remove import recorded_places
from rabbet.store.layout import data_folder
from rabbet.tasks.declaring.begin import Answers, draft, offered_runtimes, save_now
from rabbet.tasks.recreating.envs import discard
from rabbet.tasks.recreating.now import bring_up_to_date
from rabbet.tasks.recreating.recreate import recreate
from rabbet.tasks.resolving.lookup import lookup
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.session import Session

__all__ = ["Lent", "Note", "Raised", "lend", "lend_from", "lent", "raise_lent", "take_back"]

_HEAD = "#!/bin/sh\n# Lent by Rabbet"
_IMPORT = re.compile(r"^from \S+ import \S+$", re.MULTILINE)  # in the program of an entry point
_SECONDS = 60  # for a command's module to be imported


class Note(Struct, frozen=True, kw_only=True):
    """A library whose commands are lent; `place` is empty for one that has a project for itself."""

    library: str
    place: str
    environment: str
    folder: str
    commands: tuple[str, ...]


_NOTE = msgspec.json.Decoder(Note)


class Lent(Struct, frozen=True, kw_only=True):
    """A library whose commands are lent; `version` is `None` where its environment is gone.

    `newer` is the newest release that the store knows, if that is another one; sources are not asked for it.
    `on_path` tells whether the folder with the launchers is one where commands are looked for.
    """

    note: Note
    version: Version | None
    newer: Version | None
    on_path: bool


class Raised(Struct, frozen=True, kw_only=True):
    """A library that was raised; `kept` says why it stayed as it was."""

    library: str
    before: Version | None
    after: Version | None
    kept: str = ""


def lend(need: Need, to: str | None, machine: Machine, observer: Observer) -> Lent:
    """Lend the commands of a library from an environment of its own, `to` a folder or the user's usual one.

    Raises what resolving and recreating raise, `WrongUsage` where it is lent already, `CannotWrite` for a
    program of somebody else, and `EnvironmentFailed` for a library without commands; nothing is left then.
    """
    name, folder = need.name, _folder(machine) / need.name
    with machine.store.claimed(f"lent {name}"):
        if _note(machine, name) is not None:
            raise WrongUsage(f"{name} is lent already", remedy=f"rabbet lend --raise {name}")
        python = next(iter(offered_runtimes(machine)), None)
        answers = Answers(
            name=f"lent-{name}", python=f">={python.minor}" if python else "", source=None, needs=[need]
        )
        try:
            with cannot_write(folder):
                make_folder(folder)
            with closing(machine.at(folder)) as inside:
                save_now(draft(folder, answers), inside, observer)
            return _put(name, "", Project(folder), to, machine)
        except BaseException:
            _remove_project(folder, machine)
            raise


def lend_from(session: Session, place: str, library: NormalizedName, to: str | None) -> Lent:
    """Lend the commands of a library that is installed in the environment of a place. Raises as `lend`."""
    project, machine = session.project, session.machine
    if not machine.environments().owns(project.environment):
        raise EnvironmentFailed(
            f"there is no environment of {place} that was made here", remedy="rabbet recreate"
        )
    with machine.store.claimed(f"lent {library}"):
        return _put(library, place, project, to, machine)


def _put(library: NormalizedName, place: str, project: Project, to: str | None, machine: Machine) -> Lent:
    """Write launchers for all commands of a library, and note them."""
    root, folder = project.environment, _programs(to, machine)
    commands = _commands(library, root)
    if not commands:
        raise EnvironmentFailed(f"{library} has no commands", note="it may be a library to import, only")
    for command in commands:
        present = folder / command
        if os.path.lexists(present) and not _is_lent(present, library):
            lender = next((note.library for note in _notes(machine) if _is_lent(present, note.library)), "")
            whose = f"is lent from {lender}" if lender else "is a program that Rabbet did not put there"
            raise CannotWrite(
                f"{present} {whose}, so it stays as it is",
                remedy=f"rabbet lend {library} --to {quoted(str(folder / 'lent'))}",
            )
    note = Note(
        library=library, place=place, environment=str(root), folder=str(folder), commands=tuple(commands)
    )
    with cannot_write(folder), GuardedFolder.at(folder) as opened:
        for command in commands:
            opened.write(command, _launcher(library, commands_in(root) / command), mode=0o755)
    write_bytes(_folder(machine) / f"{library}.json", msgspec.json.encode(note))
    return _lent(note, machine)


def lent(machine: Machine) -> list[Lent]:
    """All libraries whose commands are lent, by name."""
    found = (_lent(note, machine) for note in _notes(machine))
    return [replace(one, newer=_newer(one, machine)) for one in found]


def raise_lent(names: Sequence[NormalizedName], machine: Machine, observer: Observer) -> Iterator[Raised]:
    """Raise lent libraries, all of them unless some are named, each with everything that it needs.

    One whose commands don't start afterwards gets back what it had. What is lent from a place follows that
    place. Raises `WrongUsage` for a library that is not lent from an environment of its own.
    """
    own = {note.library: note for note in _notes(machine) if not note.place}
    for name in names:
        if name not in own:
            raise WrongUsage(f"{name} is not lent from an environment of its own", remedy="rabbet lend")
    for name in names or map(NormalizedName, own):
        with machine.store.claimed(f"lent {name}"):
            yield _raised(own[name], machine, observer)


def _raised(note: Note, machine: Machine, observer: Observer) -> Raised:
    root = Path(note.environment)
    with closing(machine.at(root.parent)) as inside:
        return _raised_in(Session(Project(root.parent), inside, observer), note, root)


def _raised_in(session: Session, note: Note, root: Path) -> Raised:
    lock, before = session.project.lock_file, _version(note)
    earlier = read_regular(lock, most=MOST_TEXT_FILE) if lock.is_file() else b""
    kept = ""
    try:
        bring_up_to_date(session, ResolveOptions(raise_all=True))
        kept = next(
            (told for command in note.commands if (told := _trouble(commands_in(root) / command))), ""
        )
        if kept:
            write_bytes(lock, earlier)
            recreate(session, RecreateOptions())
        else:
            _put(NormalizedName(note.library), "", session.project, note.folder, session.machine)
    except RabbetError as error:
        kept = str(error)
    return Raised(library=note.library, before=before, after=_version(note), kept=kept)


def take_back(name: NormalizedName, machine: Machine) -> Note:
    """Remove the launchers of a library, and the environment that it has for itself.

    A program that somebody else put into their place stays. Raises `WrongUsage`, `CannotWrite`.
    """
    with machine.store.claimed(f"lent {name}"):
        note = _note(machine, name)
        if note is None:
            raise WrongUsage(f"{name} is not lent", remedy="rabbet lend")
        folder = Path(note.folder)
        for command in note.commands if folder.is_dir() else ():
            if _is_lent(folder / command, name):
                with cannot_write(folder), GuardedFolder(folder) as opened:
                    opened.delete(command)
        if not note.place:
            _remove_project(Path(note.environment).parent, machine)
        with cannot_write(_folder(machine)):
            (_folder(machine) / f"{name}.json").unlink()
        return note


def _remove_project(folder: Path, machine: Machine) -> None:
    """Remove the project that a library has for itself, whatever there is of it."""
    root = Project(folder).environment
    if machine.environments().owns(root):
        discard(machine, str(root))
    with cannot_write(folder):
        shutil.rmtree(folder, ignore_errors=True)


def _commands(library: NormalizedName, root: Path) -> list[str]:
    """The names of the commands that a library brought into an environment."""
    layout = Layout(root=root, site_packages=read_configuration(root).site_packages)
    found = take_inventory(root, None, sound=True).libraries.get(library)
    if found is None:
        raise EnvironmentFailed(
            f"{library} is not installed in {root}", remedy=f"rabbet declare {library} --now"
        )
    places = (place for place, _ in recorded_places(layout, found.folder))
    return sorted(place.removeprefix("bin/") for place in places if place.startswith("bin/"))


def _launcher(library: str, command: Path) -> bytes:
    """A program that becomes the environment's command, and says what to do where that is gone."""
    text = f"""{_HEAD}: {library}. To take it back: rabbet lend --back {library}
command={shlex.quote(str(command))}
if [ ! -x "$command" ]; then
    echo "error: $command is gone, which {library} was lent from; try: rabbet lend --back {library}" >&2
    exit 127
fi
exec "$command" "$@"
"""
    return text.encode(errors="surrogateescape")


def _is_lent(path: Path, library: str) -> bool:
    """Whether a program is a launcher of this library."""
    try:
        head = f"{_HEAD}: {library}. ".encode()
        return not path.is_symlink() and read_regular(path, most=MOST_BY_HAND).startswith(head)
    except OSError:
        return False


def _trouble(command: Path) -> str:
    """Why a command would not start: what it imports can't be imported; empty where it would."""
    try:
        text = read_regular(command, most=MOST_BY_HAND).decode("utf-8", "replace")
    except OSError:
        return f"{command.name} is gone"
    imported = _IMPORT.search(text)
    if imported is None:
        return ""
    words = [str(interpreter_in(command.parent.parent)), "-I", "-c", imported[0]]
    try:
        done = subprocess.run(words, capture_output=True, text=True, timeout=_SECONDS, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        return f"{command.name} does not start: {error}"
    last = done.stderr.strip().rpartition("\n")[2]
    return f"{command.name} does not start: {last}" if done.returncode else ""


def _lent(note: Note, machine: Machine) -> Lent:
    return Lent(note=note, version=_version(note), newer=None, on_path=note.folder in _path(machine))


def _newer(lent: Lent, machine: Machine) -> Version | None:
    """The newest release by the listings in the store, if the installed one is older."""
    note, version, folder = lent.note, lent.version, Path(lent.note.environment).parent
    if note.place or version is None:
        return None
    with suppress(RabbetError), closing(machine.at(folder, offline=True)) as inside:
        newest = lookup(
            Session(Project(folder), inside), Need(library_name(note.library), SpecifierSet())
        ).newest
        return newest if newest is not None and newest > version else None
    return None


def _version(note: Note) -> Version | None:
    with suppress(RabbetError, OSError):
        found = take_inventory(Path(note.environment), None, sound=True)
        return found.libraries[NormalizedName(note.library)].version
    return None


def _path(machine: Machine) -> list[str]:
    return machine.environ.get("PATH", "").split(os.pathsep)


def _programs(to: str | None, machine: Machine) -> Path:
    """The folder for launchers: the one that was named, or where the programs of one user usually lie."""
    if to is None:
        return machine.home / ".local" / "bin"
    return Path(os.path.normpath(path_named(to, machine.folder)))


def _folder(machine: Machine) -> Path:
    return data_folder(machine.environ, machine.folder) / "lent"


def _notes(machine: Machine) -> Iterator[Note]:
    folder = _folder(machine)
    for path in sorted(folder.glob("*.json")) if folder.is_dir() else ():
        note = _note(machine, path.stem)
        if note is not None:
            yield note


def _note(machine: Machine, name: str) -> Note | None:
    with suppress(OSError, msgspec.MsgspecError):
        return _NOTE.decode(read_regular(_folder(machine) / f"{name}.json", most=MOST_BY_HAND))
    return None
