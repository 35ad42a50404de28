"""The small programs in an environment's `bin` that call a library's function.

A program finds its interpreter beside itself, so an environment can be moved or renamed, and its path may be
longer than a first line (which kernels cut off) or hold spaces. The head is read twice: a shell runs it and
becomes the interpreter; to that it is a text without effect.
"""

import ast
import warnings

from rabbet.core.limits import UNREADABLE
from rabbet.python.formats.entry_points import Command

__all__ = ["command_script", "is_command_script", "with_head"]

_HEAD = b"""\
#!/bin/sh
"true" '''\\'
bin=${0%/*}; [ -L "$0" ] && bin=$(dirname -- "$(realpath -- "$0")")
[ -x "$bin/python" ] || { echo "error: the interpreter of $bin is gone; try: rabbet recreate" >&2; exit 7; }
exec "$bin/python" "$0" "$@"
'''
"""
_TELLING = 40  # bytes of the head, by which it is known


def command_script(command: Command) -> bytes:
    """The program for one entry point."""
    imported = command.function.partition(".")[0]
    return (
        _HEAD
        + (
            "import sys\n"
            "\n"
            f"from {command.module} import {imported}\n"
            "\n"
            'if __name__ == "__main__":\n'
            f"    sys.exit({command.function}())\n"
        ).encode()
    )


def is_command_script(content: bytes) -> bool:
    """Whether a file that begins so is such a program."""
    return content.startswith(_HEAD[:_TELLING])


def with_head(script: bytes) -> bytes:
    """A wheel's script, its `#!python` line (PEP 427) replaced; a script for anything else stays as it is.

    The head takes the place of the script's own docstring, so that is said again: scripts print theirs.
    """
    if not script.startswith(b"#!python"):
        return script
    body = script.partition(b"\n")[2]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # what Python says of a library's code is not ours to tell
        try:
            own = ast.get_docstring(ast.parse(body), clean=False)
        except (SyntaxError, *UNREADABLE):
            own = None
    return _HEAD + (b"" if own is None else f"__doc__ = {own!r}\n".encode()) + body
