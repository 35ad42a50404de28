"""Launchers: programs of a few lines for a shell that become another program, in a folder of the user.

Rabbet takes no part when one is started. A launcher is known by its first lines, so nobody else's program is
ever replaced or removed. Inside an environment a runtime's launcher steps aside: it starts the program of its
name that comes behind it on `PATH`.
"""

import shlex
from collections.abc import Mapping
from pathlib import Path

from rabbet.core.limits import MOST_BY_HAND
from rabbet.disk.regular_file import read_regular
from rabbet.python.environment.place.variables import ACTIVE
from rabbet.runtimes.search import LAUNCHER

__all__ = ["is_launcher", "launcher", "runtime_launcher"]

_STEPS_ASIDE = """if [ -n "${@ACTIVE@-}" ]; then
    rest=$PATH: passed=
    while [ -n "$rest" ]; do
        file=${rest%%:*}/@PROGRAM@ rest=${rest#*:}
        if [ "$file" -ef "$0" ]; then
            passed=1
        elif [ -n "$passed" ] && [ -f "$file" ] && [ -x "$file" ]; then
            exec "$file" "$@"
        fi
    done
    echo 'error: this environment has no @PROGRAM@; try: rabbet declare --runtime @LANGUAGE@' >&2
    exit 127
fi
"""


def launcher(whose: str, command: Path | str, back: str) -> bytes:
    """A program that becomes a `command`, and says what to do where that is gone.

    `whose` it is tells the launchers of two libraries apart; `back` is the command that takes it back.
    """
    return _text(whose, str(command), back)


def runtime_launcher(language: str, program: str, command: str, variables: Mapping[str, str]) -> bytes:
    """A program of a runtime, with the variables that it wants, for where no environment is entered."""
    aside = _STEPS_ASIDE.replace("@ACTIVE@", ACTIVE).replace("@PROGRAM@", program)
    wanted = "".join(f"export {name}={shlex.quote(value)}\n" for name, value in sorted(variables.items()))
    back = f"rabbet lend --back --runtime {language}"
    return _text(f"runtime {language}", command, back, aside.replace("@LANGUAGE@", language) + wanted)


def _text(whose: str, command: str, back: str, before: str = "") -> bytes:
    text = f"""{LAUNCHER}: {whose}. To take it back: {back}
{before}command={shlex.quote(command)}
if [ ! -x "$command" ]; then
    echo "error: $command is gone, which {whose} was lent from; try: {back}" >&2
    exit 127
fi
exec "$command" "$@"
"""
    return text.encode(errors="surrogateescape")


def is_launcher(path: Path, whose: str) -> bool:
    """Whether a program is a launcher, and whose."""
    try:
        head = f"{LAUNCHER}: {whose}. ".encode()
        return not path.is_symlink() and read_regular(path, most=MOST_BY_HAND).startswith(head)
    except OSError:
        return False
