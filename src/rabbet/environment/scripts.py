"""The small programs in an environment's `bin` that call a library's function."""

from pathlib import Path

from rabbet.formats.entry_points import Command

__all__ = ["command_script", "with_first_line"]

_LONGEST_FIRST_LINE = 127  # older Linux kernels cut off what is longer


def command_script(command: Command, interpreter: Path) -> bytes:
    """The program for one entry point."""
    imported = command.function.partition(".")[0]
    return (
        _first_line(interpreter)
        + (
            "import sys\n"
            "\n"
            f"from {command.module} import {imported}\n"
            "\n"
            'if __name__ == "__main__":\n'
            f"    sys.exit({command.function}())\n"
        ).encode()
    )


def with_first_line(script: bytes, interpreter: Path) -> bytes:
    """A wheel's script, its `#!python` line (PEP 427) replaced by one that names the interpreter."""
    if not script.startswith(b"#!python"):
        return script
    return _first_line(interpreter) + script.partition(b"\n")[2]


def _first_line(interpreter: Path) -> bytes:
    """A line that starts the interpreter, also where its path is too long or has spaces for the kernel.

    In that case a shell runs the second line, which Python reads as a text without effect.
    """
    path = str(interpreter)
    if len(path) + 3 <= _LONGEST_FIRST_LINE and not any(c.isspace() for c in path):
        return f"#!{path}\n".encode()
    quoted = path
    for special in '\\"$`':
        quoted = quoted.replace(special, "\\" + special)
    return f'#!/bin/sh\n"exec" "{quoted}" "$0" "$@"\n'.encode()
