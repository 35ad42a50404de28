"""Lending: the commands of a library or a runtime in the user's folder for programs, for every folder."""

import os
import re
import shutil
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, suppress
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.limits import MOST_BY_HAND, MOST_TEXT_FILE
from rabbet.core.model.options import RecreateOptions, ResolveOptions
from rabbet.core.model.runtime import LinkedRuntime
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
from rabbet.exports.launchers import is_launcher, launcher, runtime_launcher
from rabbet.formats.text.requirement import parse_runtime
from rabbet.python.environment.look.inspect import take_inventory
from rabbet.python.environment.place.configuration import read_configuration
from rabbet.python.environment.place.layout import Layout, commands_in, interpreter_in
from rabbet.python.environment.put.remove import recorded_places
from rabbet.runtimes.choose import choose
from rabbet.tasks.declaring.begin import Answers, draft, offered_runtimes, save_now
from rabbet.tasks.recreating.envs import discard
from rabbet.tasks.recreating.now import bring_up_to_date
from rabbet.tasks.recreating.recreate import recreate
from rabbet.tasks.resolving.lookup import lookup
from rabbet.workspace.lent import Note, keep_note, lent_folder, note_of, notes, remove_note, runtime_key
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import Project
from rabbet.workspace.runtimes.choice import newest_runtime
from rabbet.workspace.runtimes.pythons import found_pythons
from rabbet.workspace.session import Session

__all__ = ["Lent", "Raised", "lend", "lend_from", "lend_runtime", "lent", "raise_lent", "take_back"]

_IMPORT = re.compile(r"^from \S+ import \S+$", re.MULTILINE)  # in the program of an entry point
_SECONDS = 60  # for a command's module to be imported


class Lent(Struct, frozen=True, kw_only=True):
    """A library or runtime whose commands are lent; `version` is `None` where what they start is gone.

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
    name, folder = need.name, lent_folder(machine) / need.name
    with machine.store.claimed(f"lent {name}"):
        if note_of(name, machine) is not None:
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


def lend_runtime(constraint: str, to: str | None, project: Project | None, machine: Machine) -> Lent:
    """Lend the programs of this machine's newest runtime that a constraint such as `node 20` allows.

    One of the same language that is lent gives way. Raises `NotUnderstood`, `NoRuntime`, `CannotWrite`.
    """
    need = parse_runtime(constraint)
    if need.name == "python":
        linked = _linked_python(need, project, machine)
    else:
        linked = newest_runtime(need, project.declaration() if project else None, project, machine)
    key, folder, runtime = runtime_key(need.name), _programs(to, machine), linked.runtime
    note = Note(
        library=runtime.language,
        place="",
        environment=runtime.executable,
        folder=str(folder),
        commands=tuple(sorted(linked.links)),
        runtime=str(runtime.version),
    )
    with machine.store.claimed(f"lent {key}"):
        earlier = note_of(key, machine)
        _write(
            note,
            {
                name: runtime_launcher(runtime.language, name, place, linked.variables)
                for name, place in linked.links.items()
            },
            machine,
        )
        if earlier is not None:
            kept = note.commands if earlier.folder == note.folder else ()
            _delete(earlier, [command for command in earlier.commands if command not in kept])
    return _lent(note, machine)


def _linked_python(need: Need, project: Project | None, machine: Machine) -> LinkedRuntime:
    python = choose(found_pythons(machine, project), need.specifier)
    names = ("python", "python3", f"python{python.minor}")
    return LinkedRuntime(runtime=python, links=dict.fromkeys(names, python.executable), variables={})


def _put(library: NormalizedName, place: str, project: Project, to: str | None, machine: Machine) -> Lent:
    """Write launchers for all commands of a library, and note them."""
    root = project.environment
    commands = _commands(library, root)
    if not commands:
        raise EnvironmentFailed(f"{library} has no commands", note="it may be a library to import, only")
    note = Note(
        library=library,
        place=place,
        environment=str(root),
        folder=str(_programs(to, machine)),
        commands=tuple(commands),
    )
    back = f"rabbet lend --back {library}"
    _write(note, {name: launcher(library, commands_in(root) / name, back) for name in commands}, machine)
    return _lent(note, machine)


def _write(note: Note, launchers: Mapping[str, bytes], machine: Machine) -> None:
    """Write launchers, and a note of them. Raises `CannotWrite`, also for a program of somebody else."""
    folder = Path(note.folder)
    for command in launchers:
        present = folder / command
        if os.path.lexists(present) and not is_launcher(present, note.whose):
            lender = next((other.whose for other in notes(machine) if is_launcher(present, other.whose)), "")
            whose = f"is lent from {lender}" if lender else "is a program that Rabbet did not put there"
            what = f"--runtime {note.library}" if note.runtime else note.library
            raise CannotWrite(
                f"{present} {whose}, so it stays as it is",
                remedy=f"rabbet lend {what} --to {quoted(str(folder / 'lent'))}",
            )
    with cannot_write(folder), GuardedFolder.at(folder) as opened:
        for command, content in launchers.items():
            opened.write(command, content, mode=0o755)
    keep_note(note, machine)


def _delete(note: Note, commands: Sequence[str]) -> None:
    """Remove launchers; a program that somebody else put into the place of one stays."""
    folder = Path(note.folder)
    for command in commands if folder.is_dir() else ():
        if is_launcher(folder / command, note.whose):
            with cannot_write(folder), GuardedFolder(folder) as opened:
                opened.delete(command)


def lent(machine: Machine) -> list[Lent]:
    """All libraries and runtimes whose commands are lent, by name."""
    found = (_lent(note, machine) for note in notes(machine))
    return [replace(one, newer=_newer(one, machine)) for one in found]


def raise_lent(names: Sequence[NormalizedName], machine: Machine, observer: Observer) -> Iterator[Raised]:
    """Raise lent libraries, all of them unless some are named, each with everything that it needs.

    One whose commands don't start afterwards gets back what it had. What is lent from a place follows that
    place. Raises `WrongUsage` for a library that is not lent from an environment of its own.
    """
    own = {note.library: note for note in notes(machine) if not note.place and not note.runtime}
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


def take_back(key: str, machine: Machine) -> Note:
    """Remove launchers, and the environment that a library has for itself, by the name of the note.

    A program that somebody else put into their place stays. Raises `WrongUsage`, `CannotWrite`.
    """
    with machine.store.claimed(f"lent {key}"):
        note = note_of(key, machine)
        if note is None:
            raise WrongUsage(f"{key.replace('.', ' ')} is not lent", remedy="rabbet lend")
        _delete(note, note.commands)
        if not note.place and not note.runtime:
            _remove_project(Path(note.environment).parent, machine)
        remove_note(note, machine)
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
    if note.place or note.runtime or version is None:
        return None
    with suppress(RabbetError), closing(machine.at(folder, offline=True)) as inside:
        newest = lookup(
            Session(Project(folder), inside), Need(library_name(note.library), SpecifierSet())
        ).newest
        return newest if newest is not None and newest > version else None
    return None


def _version(note: Note) -> Version | None:
    if note.runtime:
        return Version(note.runtime) if os.access(note.environment, os.X_OK) else None
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
