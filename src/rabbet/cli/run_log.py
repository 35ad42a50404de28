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

import platformdirs

from rabbet.core.shell import joined_words
from rabbet.core.shown_text import visible, without_credentials

__all__ = ["log_file", "note_run"]

# Neither through a link nor into a pipe, which would keep whoever opens it.
_APPEND = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_LARGEST = 200_000  # bytes; the file before that is kept beside it
_LONGEST = 2_000  # characters of a command line


def log_file() -> Path:
    """Where the log lies."""
    return platformdirs.user_state_path("rabbet") / "runs.jsonl"


def note_run(arguments: Sequence[str], code: int, seconds: float, error: str = "") -> None:
    """Add a run. A state folder that can't be written forgets it, which is no error."""
    path = log_file()
    run = {
        "at": f"{datetime.now(UTC):%Y-%m-%dT%H:%M:%SZ}",
        "command": _safe(f"rabbet {joined_words(arguments)}"),
        "exit_code": int(code),
        "seconds": round(seconds, 3),
        **({"error": _safe(error)} if error else {}),
    }
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


def _safe(text: str) -> str:
    return visible(without_credentials(text))[:_LONGEST]
