"""A log of the last runs, in the user's state folder: what was run, how long it took, how it ended.

One JSON document a line, without credentials. It is for people who look for what went wrong, and for reports
of mistakes; nothing is ever sent anywhere.
"""

import json
import os
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from stat import S_ISREG

from rabbet.cli.registry import COMMANDS
from rabbet.core.shell import joined_words
from rabbet.core.shown_text import shown_argument, visible, without_credentials
from rabbet.errors import ExitCode
from rabbet.workspace.machine import state_of_this_process

__all__ = ["log_file", "note_run", "own_words"]

# Neither through a link nor into a pipe, on which opening would block.
_APPEND = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_MANY = 1_000  # values that an option may have
_LARGEST = 200_000  # bytes; the file before that is kept beside it
_OTHERS = ("run", "enter", "culprit", "prove")  # commands that take the words of another program
_LONGEST = 2_000  # characters of a command line


def log_file() -> Path:
    """Where the log lies."""
    return state_of_this_process() / "runs.jsonl"


def note_run(arguments: Sequence[str], code: int, seconds: float, error: str = "") -> None:
    """Add a run. A state folder that can't be written forgets it, which is no error."""
    path = log_file()
    run = {
        "at": f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ}",
        "command": _safe(f"rabbet {joined_words(own_words(arguments))}"),
        "exit_code": int(code),
        "seconds": round(seconds, 3),
    }
    if error and code != ExitCode.USAGE:  # what was typed wrongly may be a secret, and is repeated there
        run["error"] = _safe(error)
    with suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        if path.exists() and path.stat().st_size > _LARGEST:
            path.replace(path.with_name(f"{path.name}.1"))
        file = os.open(path, _APPEND, 0o600)
        try:
            if S_ISREG(os.fstat(file).st_mode):
                os.write(file, f"{json.dumps(run)}\n".encode())  # one write: runs at the same time don't mix
        finally:
            os.close(file)


def own_words(given: Sequence[str]) -> list[str]:
    """The words of a command line that may be written down: the command's name and its own options.

    What stands behind `--`, belongs to another program or to an option that there is not, is left out, and
    so are parts of addresses that may be secret.
    """
    from rabbet.cli.parsers import parser_for

    if not given or given[0] not in COMMANDS:
        return ["…"] if given else []
    try:
        options = parser_for(given[0])._option_string_actions  # noqa: SLF001 - argparse has no other way
    except Exception:  # noqa: BLE001 - a fault is noted, whatever is broken
        return [given[0], "…"]
    most = 0 if given[0] in _OTHERS else _MANY  # positional words
    kept, left = [given[0]], most
    for word in given[1:]:
        if word.startswith("-"):
            option = options.get(word.partition("=")[0])
            if option is None:
                return [*kept, "…"]
            left = most or (1 if option.nargs is None else 0 if option.nargs == 0 else _MANY)
        elif not left:
            return [*kept, "…"]
        else:
            left -= 1
        kept.append(shown_argument(word))
    return kept


def _safe(text: str) -> str:
    return visible(without_credentials(text))[:_LONGEST]
