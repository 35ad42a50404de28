"""`entry_points.txt` → the commands that a library brings along."""

import re
from typing import TYPE_CHECKING

from msgspec import Struct

if TYPE_CHECKING:
    from configparser import ConfigParser

__all__ = ["Command", "read_commands", "read_plugin_groups"]

_COMMANDS = ("console_scripts", "gui_scripts")

_VALUE = re.compile(r"^\s*(?P<module>[\w.]+)\s*:\s*(?P<function>[\w.]+)\s*(\[.*\])?\s*$")
_SAFE_NAME = re.compile(r"^[^/\\\x00\s][^/\\\x00]*$")


class Command(Struct, frozen=True):
    """A command's name, and the function that it calls."""

    name: str
    module: str
    function: str


def read_commands(text: str) -> tuple[Command, ...]:
    """The console and GUI commands, sorted.

    Raises `ValueError` for what can't be read, and for names that would lead out of the scripts' folder.
    """
    parser = _parsed(text)
    found = []
    for section in _COMMANDS:
        for name, value in parser.items(section) if parser.has_section(section) else ():
            match = _VALUE.match(value)
            if match is None or not _SAFE_NAME.match(name) or name in (".", ".."):
                raise ValueError(f"the entry point {name!r} = {value!r} is not valid")
            found.append(Command(name, match["module"], match["function"]))
    return tuple(sorted(found, key=lambda command: command.name))


def read_plugin_groups(text: str) -> tuple[str, ...]:
    """The groups of entry points other than commands, sorted. Raises `ValueError` for what can't be read."""
    return tuple(sorted(section for section in _parsed(text).sections() if section not in _COMMANDS))


def _parsed(text: str) -> "ConfigParser":
    import configparser  # here: few libraries have entry points that are looked at in a run

    parser = configparser.ConfigParser(delimiters=("=",), interpolation=None, strict=False)
    parser.optionxform = str  # type: ignore[assignment, method-assign]  # names keep their case
    try:
        parser.read_string(text)
    except configparser.Error as error:
        raise ValueError(str(error)) from error
    return parser
