"""Notes of what is lent: which library or runtime, from where, as which programs.

DATA/lent/NAME.json              a library
DATA/lent/runtime.LANGUAGE.json  a runtime
DATA/lent/NAME/…                 a project with nothing but the library
"""

from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec import Struct

from rabbet.core.limits import MOST_BY_HAND
from rabbet.disk.atomic import cannot_write, write_bytes
from rabbet.disk.regular_file import read_regular
from rabbet.store.layout import data_folder
from rabbet.workspace.machine import Machine

__all__ = ["Note", "keep_note", "lent_folder", "note_of", "notes", "remove_note", "runtime_key"]

_RUNTIME = "runtime."  # no library has a name with a dot, once that is normalised


class Note(Struct, frozen=True, kw_only=True):
    """What is lent; `place` is empty for a library that has a project for itself.

    Of a runtime `library` is the language, `runtime` its version, and `environment` its main program.
    """

    library: str
    place: str
    environment: str
    folder: str
    commands: tuple[str, ...]
    runtime: str = ""

    @property
    def key(self) -> str:
        """The name of the note."""
        return runtime_key(self.library) if self.runtime else self.library

    @property
    def whose(self) -> str:
        """What its launchers call it."""
        return f"runtime {self.library}" if self.runtime else self.library


_NOTE = msgspec.json.Decoder(Note)


def runtime_key(language: str) -> str:
    """The name of a runtime's note."""
    return _RUNTIME + language


def lent_folder(machine: Machine) -> Path:
    """The folder of all notes."""
    return data_folder(machine.environ, machine.folder) / "lent"


def notes(machine: Machine) -> Iterator[Note]:
    """All notes that can be read, by name."""
    folder = lent_folder(machine)
    for path in sorted(folder.glob("*.json")) if folder.is_dir() else ():
        note = note_of(path.name.removesuffix(".json"), machine)
        if note is not None:
            yield note


def note_of(key: str, machine: Machine) -> Note | None:
    """The note with this name; `None` where nothing is lent by it."""
    with suppress(OSError, msgspec.MsgspecError):
        return _NOTE.decode(read_regular(lent_folder(machine) / f"{key}.json", most=MOST_BY_HAND))
    return None


def keep_note(note: Note, machine: Machine) -> None:
    """Write a note. Raises `CannotWrite`."""
    write_bytes(lent_folder(machine) / f"{note.key}.json", msgspec.json.encode(note))


def remove_note(note: Note, machine: Machine) -> None:
    """Remove a note. Raises `CannotWrite`."""
    folder = lent_folder(machine)
    with cannot_write(folder):
        (folder / f"{note.key}.json").unlink()
