"""Unexpected errors: what the machine refused; else one line for the user, and a report kept on disk."""

import errno
import platform
import tempfile
import traceback
from collections.abc import Sequence
from pathlib import Path

from rabbet import __version__
from rabbet.cli.failures.run_log import log_file, own_words
from rabbet.core.limits import LONGEST_LINE
from rabbet.core.shell import joined_words, quoted
from rabbet.core.shown_text import visible, without_credentials
from rabbet.errors import EnvironmentFailed, Fault, RabbetError
from rabbet.workspace.machine import state_of_this_process

__all__ = ["failure_of"]

# What a system answers where a disk, a path or a limit of the machine does not serve.
_OF_THE_MACHINE = {
    *(errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO, errno.EACCES, errno.EPERM),
    *(errno.ENAMETOOLONG, errno.ELOOP, errno.ESTALE, errno.EMFILE, errno.ENFILE, errno.ENOMEM),
}


def failure_of(error: Exception, arguments: Sequence[str]) -> RabbetError:
    """The error to show for one that nobody foresaw: the machine refused something, or Rabbet has a fault."""
    if isinstance(error, OSError) and error.errno in _OF_THE_MACHINE:
        place = visible(str(error.filename or ""))[:LONGEST_LINE]
        return EnvironmentFailed(f"{place or 'the machine'} can't be used", because=[str(error.strerror)])
    return _fault_of(error, arguments)


def _fault_of(error: Exception, arguments: Sequence[str]) -> Fault:
    """The error to show for a crash; it names the report, which holds no credentials."""
    told = "".join(traceback.format_exception_only(error)).strip().splitlines()[-1]
    kept = _keep(_report(error, arguments))
    return Fault(
        f"Rabbet itself failed: {told[:200]}",
        because=[
            "this is a mistake in Rabbet, not in your project; please report it",
            f"the report is kept in {kept}" if kept else "the report could not be kept",
            f"what was run before is in {log_file()}",
        ],
        remedy=f"cat {quoted(str(kept))}" if kept else "",
    )


def _report(error: Exception, arguments: Sequence[str]) -> str:
    lines = [
        f"rabbet {__version__}, Python {platform.python_version()} on {platform.platform()}",
        f"rabbet {joined_words(own_words(arguments))}",
        *"".join(traceback.format_exception(error)).splitlines(),
    ]
    return "".join(f"{visible(without_credentials(line))}\n" for line in lines)


def _keep(report: str) -> Path | None:
    """Write the report to the user's state folder, else to a temporary file; return its path."""
    for folder in (state_of_this_process() / "faults", Path(tempfile.gettempdir())):
        try:
            folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            kept = tempfile.NamedTemporaryFile(  # noqa: SIM115 - closed below
                "w", dir=folder, prefix="rabbet-fault-", suffix=".txt", delete=False, encoding="utf-8"
            )
            with kept:
                kept.write(report)
        except OSError:
            continue
        return Path(kept.name)
    return None
