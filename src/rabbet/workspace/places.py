"""Places: what `--in` names. A folder, a name (a project in the user's data folder), or a script.

    DATA/named/NAME/…        the projects that are known by a name
    DATA/scripts/KEY/…       a script's metadata as a declaration, its lock, its environment

A script's own files come first: its metadata is read again each time, and a lock beside it counts in place of
the one that is kept here. What a command changed is written back when it is done.
"""

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rabbet.core.limits import MOST_BY_HAND, MOST_TEXT_FILE
from rabbet.core.shell import in_place, quoted
from rabbet.disk.atomic import cannot_write, write_bytes, write_text
from rabbet.disk.folder import make_folder
from rabbet.disk.named import path_named
from rabbet.disk.regular_file import read_regular
from rabbet.disk.text_file import read_text
from rabbet.errors import CannotWrite, NotUnderstood, WrongUsage
from rabbet.store.layout import data_folder
from rabbet.workspace.machine import Machine
from rabbet.workspace.project import DECLARATION, ENVIRONMENT, Project, Script, find_project

if TYPE_CHECKING:
    from rabbet.formats.project.script_block import ScriptBlock

__all__ = [
    "Place",
    "folder_for",
    "has_metadata",
    "home_of",
    "named_folder",
    "named_projects",
    "place_in",
    "project_around",
    "rename",
    "script_file",
    "script_place",
]

_NAME = re.compile(r"[a-z0-9](?:[a-z0-9_-]{0,62}[a-z0-9])?\Z")
_OF_SCRIPT = "script"  # the file that tells whose home a folder is
_MADE = "block-made"  # the digest of a script before its block was written here
_SCRIPT_ENDINGS = (".py", ".pyw")


class Place(NamedTuple):
    """A place as it was written, and its project; of a script, its text and block, and the lock beside it."""

    text: str
    project: Project
    read: str = ""
    block: "ScriptBlock | None" = None
    locked: bytes | None = None
    named: bool = False

    @property
    def option(self) -> str:
        """The option that names it, to be put behind a command."""
        return f" --in {quoted(self.text)}"

    @property
    def everywhere(self) -> str:
        """What names it from every folder: its name, or a path."""
        project = self.project
        if project.script is not None:
            return str(project.script.file)
        return self.text if self.named else str(project.folder)

    def told(self, text: str) -> str:
        """A sentence or a command as it is told of this place; what a script declares lies in itself."""
        text = in_place(text, self.option)
        return text.replace(DECLARATION, self.project.declared_in) if self.project.script else text

    def refuse_variant(self, variant: str | None) -> None:
        """Raise `WrongUsage` for a variant of a script, which has none."""
        if variant and self.project.script is not None:
            raise WrongUsage(f"{self.project.only_file} is a single script, and has no variants")

    @property
    def beside(self) -> Path:
        """The lock beside a script."""
        return self.project.folder / self.project.lock_file.name

    def write_back(self, *, locking: bool) -> bool:
        """Write what a command changed into a script, and the lock beside it; whether that is a new file.

        The lock is written where it lay there, and for `locking`. Raises `CannotWrite`, also where somebody
        changed the script meanwhile.
        """
        script = self.project.script
        if script is None:
            return False
        after = _with_declaration(self, script)
        if after != self.read:
            if _text_of(script.file) != self.read:
                raise CannotWrite(
                    f"{script.file.name} was changed meanwhile, so its metadata was not written",
                    remedy=f"rabbet declare{self.option}",
                )
            write_bytes(script.file, after.encode(errors="surrogateescape"))
        lock = self.project.lock_file
        if (self.locked is not None or locking) and lock.is_file():
            content = read_regular(lock, most=MOST_TEXT_FILE)
            if content != self.locked:
                write_bytes(self.beside, content)
                return self.locked is None
        return False


def place_in(text: str, machine: Machine) -> Place:
    """The place that a text names. Raises `WrongUsage`, `NoDeclaration`, `NotUnderstood`."""
    path, named = path_named(text, machine.folder), named_folder(text, machine)
    if named is not None and (named / DECLARATION).is_file():
        if path.is_dir():
            raise WrongUsage(
                f"'{text}' is the name of a project, and a folder here",
                because=[f"the project lies in {named}"],
                note="a path with a slash is always a folder",
            )
        return Place(text, Project(named), named=True)
    if path.is_dir() or path.name == DECLARATION:
        return Place(text, find_project(path if path.is_dir() else path.parent))
    if path.exists() or text.endswith(_SCRIPT_ENDINGS):
        return script_place(text, machine)
    near = _near(text, machine)
    raise WrongUsage(
        f"there is no project called '{text[:60]}', and no such folder or script",
        meant=(text, near[0]) if near else None,
        remedy=f"rabbet begin --named {text}" if _NAME.match(text) else "rabbet envs",
    )


def _near(text: str, machine: Machine) -> list[str]:
    from rabbet.core.near_names import near_names

    return near_names(text, [project.folder.name for project in named_projects(machine)])


def named_folder(name: str, machine: Machine) -> Path | None:
    """Where the project of a name lies, or would lie; `None` for what is no name."""
    return data_folder(machine.environ, machine.folder) / "named" / name if _NAME.match(name) else None


@contextmanager
def folder_for(name: str, machine: Machine) -> Iterator[Path]:
    """The folder of a project with this name, made if need be; where nothing is declared in it then, it goes.

    Raises `WrongUsage` for what can't be a name, `CannotWrite`.
    """
    folder = named_folder(name, machine)
    if folder is None:
        raise WrongUsage(
            f"'{name[:60]}' can't be the name of a project without a folder",
            because=[
                "it takes at most 64 small letters, digits, '-' and '_', the first and last not '-' or '_'"
            ],
        )
    with cannot_write(folder.parent):
        make_folder(folder)
    try:
        yield folder
    finally:
        if not (folder / DECLARATION).exists():
            with suppress(OSError):  # it holds something else
                folder.rmdir()


def named_projects(machine: Machine) -> Iterator[Project]:
    """All projects that have a name."""
    folder = data_folder(machine.environ, machine.folder) / "named"
    for path in sorted(folder.iterdir()) if folder.is_dir() else ():
        if _NAME.match(path.name) and (path / DECLARATION).is_file():
            yield Project(path)


def script_file(text: str, machine: Machine) -> Path | None:
    """The script that a text names, wherever links lead; `None` for what is no file."""
    path = path_named(text, machine.folder)
    return Path(os.path.realpath(path)) if path.exists() and not path.is_dir() else None


def has_metadata(file: Path) -> bool:
    """Whether a file is a script with metadata. Raises `NotUnderstood` where that is malformed."""
    try:
        content = read_regular(file, most=MOST_BY_HAND)
    except OSError:
        return False
    if b"///" not in content or b"\0" in content:
        return False
    from rabbet.formats.project.script_block import script_block  # here: most programs are no scripts

    return script_block(content.decode("utf-8", "surrogateescape"), file.name) is not None


def script_place(text: str, machine: Machine) -> Place:
    """The place of a script, with what its metadata says now. Raises `NotUnderstood`, `WrongUsage`."""
    from rabbet.formats.project.script_block import declaration_of, script_block

    file = Path(os.path.realpath(path_named(text, machine.folder)))
    read, home = _text_of(file), home_of(file, machine)
    project = Project(file.parent, script=Script(file, home))
    block = script_block(read, file.name)
    if block is None and not (file.suffix in _SCRIPT_ENDINGS or read.startswith("#!")):
        raise WrongUsage(
            f"{file.name} is not a script",
            because=["it has no script metadata, no first line with '#!', and its name does not end in .py"],
        )
    try:
        declaration = declaration_of(block, file.name).encode()
    except UnicodeEncodeError as error:
        raise NotUnderstood(f"the script metadata of {file.name} is not UTF-8 text") from error
    with cannot_write(home):
        make_folder(home)
    _keep(home / _OF_SCRIPT, os.fsencode(file))
    _keep(project.declaration_file, declaration)
    found = Place(text, project, read, block)
    if not found.beside.is_file():
        return found
    try:
        locked = read_regular(found.beside, most=MOST_TEXT_FILE)
    except OSError as error:
        raise NotUnderstood(f"{found.beside.name} can't be read", because=[str(error)]) from error
    _keep(project.lock_file, locked)
    return found._replace(locked=locked)


def _keep(file: Path, content: bytes) -> None:
    """Let a file of a script's home have this content."""
    with suppress(OSError):
        if read_regular(file, most=len(content)) == content:
            return
    write_bytes(file, content)


def home_of(script: Path, machine: Machine) -> Path:
    """Where what is kept of a script lies, by its real path."""
    key = sha256(os.fsencode(script)).hexdigest()[:16]
    return data_folder(machine.environ, machine.folder) / "scripts" / f"{script.stem[:40]}-{key}"


def _text_of(file: Path) -> str:
    """A script's text; bytes that are not UTF-8 stay what they are. Raises `NotUnderstood`, `WrongUsage`."""
    try:
        content = read_regular(file, most=MOST_BY_HAND)
    except FileNotFoundError:
        raise WrongUsage(f"there is no script {file}") from None
    except OSError as error:
        raise NotUnderstood(f"{file.name} can't be read", because=[error.strerror or str(error)]) from error
    if b"\0" in content:
        raise NotUnderstood(f"{file.name} is not a text", because=["it holds a NUL byte"])
    return content.decode("utf-8", "surrogateescape")


def _with_declaration(place: Place, script: Script) -> str:
    """The script's text with the declaration as it is in its home now."""
    from rabbet.formats.project.script_block import toml_of, with_block, without_block

    toml = toml_of(read_text(place.project.declaration_file, by_hand=True))
    if place.block is None:
        if not toml:
            return place.read
        write_text(script.home / _MADE, _digest(place.read))
        return with_block(place.read, None, toml)
    if toml == place.block.toml:
        return place.read
    made = script.home / _MADE
    if toml == "dependencies = []\n" and made.is_file():
        noted = read_text(made)
        for bare in without_block(place.read, place.block):
            if _digest(bare) == noted:
                return bare
    return with_block(place.read, place.block, toml)


def _digest(text: str) -> str:
    return sha256(text.encode(errors="surrogateescape")).hexdigest()


def rename(old: str, new: str, machine: Machine) -> None:
    """Give a project that has a name another one. Raises `WrongUsage`, `CannotWrite`."""
    present, wanted = named_folder(old, machine), named_folder(new, machine)
    if present is None or not present.is_dir():
        near = _near(old, machine)
        raise WrongUsage(
            f"there is no project called '{old[:60]}'",
            meant=(old, near[0]) if near else None,
            remedy="rabbet envs",
        )
    with machine.store.claimed(f"named {old}"), folder_for(new, machine) as folder, cannot_write(folder):
        if (folder / DECLARATION).exists() or wanted is None:
            raise WrongUsage(f"there is a project called '{new}' already", remedy="rabbet envs")
        present.rename(folder)  # which takes the place of an empty folder alone


def project_around(environment: Path, machine: Machine) -> Project:
    """The project, its variant, or the script that an environment belongs to by its place."""
    home, note = environment.parent, environment.parent / _OF_SCRIPT
    if home.parent == data_folder(machine.environ, machine.folder) / "scripts" and note.is_file():
        file = Path(os.fsdecode(read_regular(note, most=MOST_BY_HAND)))
        return Project(file.parent, script=Script(file, home))
    return Project(home, environment.name.removeprefix(ENVIRONMENT).removeprefix("-") or None)
