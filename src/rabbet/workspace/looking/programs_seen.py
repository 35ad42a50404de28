"""The programs of runtimes as the last search found them, while every place where it looked is as it was."""

import hashlib
import json
from collections.abc import Iterable
from contextlib import suppress

from rabbet import __version__
from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.disk.regular_file import read_regular
from rabbet.runtimes.search import Look, state_of_place
from rabbet.workspace.machine import Machine

__all__ = ["seen_programs"]


def seen_programs(machine: Machine, *, others: bool, more: Iterable[str] = ()) -> list[str]:
    """The interpreters of Python, with `others` the main programs of languages, too, by their paths.

    `more` are names of programs of languages that only a declaration tells of. Raises `OSError` for settings
    that can't be read.
    """
    memory, names = machine.memory("runtimes"), sorted(more)
    key = _key(machine, [str(others), *names])
    with suppress(ValueError, AttributeError):  # nothing is known, or in another form
        places, programs = json.loads(memory.recall(key) or b"")
        if all(state_of_place(place) == state for place, state in places.items()):
            return list(programs)
    look = Look()
    found = [str(path) for path in machine.find_pythons(look)]
    if others:
        from rabbet.workspace.runtimes.languages import main_programs  # here: most projects need Python alone

        found += map(str, main_programs(machine, names, look))
    memory.remember(key, json.dumps([look.states, found]).encode())
    return found


def _key(machine: Machine, parts: list[str]) -> str:
    settings = machine.settings_file()
    told = read_regular(settings, most=MOST_TEXT_FILE) if settings.is_file() else b""
    used = machine.environments().runtime_folders()
    text = "\0".join([__version__, machine.environ.get("PATH", ""), str(machine.home), *used, *parts])
    return hashlib.sha256(text.encode(errors="surrogateescape") + b"\0" + told).hexdigest() + "-seen"
