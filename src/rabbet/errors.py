"""Every failure that a user, a file or a network can cause.

    RabbetError
    ├── WrongUsage (2)              a command can't be carried out as it was given
    │   ├── NoDeclaration           no pyproject.toml in this folder or above it
    │   └── NoLock                  nothing was resolved yet
    ├── NotUnderstood (3)           a file or a requirement can't be read
    ├── NoSolution (4)              no set of releases meets all requirements
    ├── SourceFailed (5)            a source is missing, silent or answers nonsense
    ├── IntegrityFailed (6)         content is not what its record says
    ├── EnvironmentFailed (7)       a runtime, an environment or a folder is missing or not usable
    │   ├── NoRuntime               no runtime on this machine fits
    │   │   └── NotObtained         the lock says where to get it
    │   ├── BuildFailed             a library's own build code failed, or made something else
    │   ├── NotAgreed               the project's own build would run, and nobody has agreed to that
    │   └── CannotWrite             a file or folder can't be written
    ├── Fault (70)                  Rabbet itself failed: what nobody foresaw
    └── Interrupted (130)           the user stopped it

Exit code 1 belongs to no error: it is the answer "no" (drift was found).
This module stands below all layers, so that each of them can raise these.
"""

from collections.abc import Sequence
from enum import IntEnum
from typing import NamedTuple

__all__ = [
    "BuildFailed",
    "CannotWrite",
    "EnvironmentFailed",
    "ExitCode",
    "Fault",
    "IntegrityFailed",
    "Interrupted",
    "NoDeclaration",
    "NoLock",
    "NoRuntime",
    "NoSolution",
    "NotAgreed",
    "NotUnderstood",
    "RabbetError",
    "SourceFailed",
    "Way",
    "WrongUsage",
]


class ExitCode(IntEnum):
    """The program's exit codes."""

    DONE = 0
    NO = 1
    USAGE = 2
    NOT_UNDERSTOOD = 3
    NO_SOLUTION = 4
    SOURCE = 5
    INTEGRITY = 6
    ENVIRONMENT = 7
    FAULT = 70
    INTERRUPTED = 130
    UNREAD = 141


class Way(NamedTuple):
    """A command to try, and what comes of it."""

    command: str
    gives: str = ""


class RabbetError(Exception):
    """A failure with what a user needs: what could not be done, why, and what to try.

    `because` holds one reason a line. `remedy` is a command that runs as it stands in bash, zsh and fish,
    `or_else` are others. What no command says is a `note`. `meant` is a wrong word of the command line,
    and the right one: the same command with this is the first to try. Of an error that was `told` while
    remedies were still looked for, only these are left to say. Entries of the names in `undone`
    were declared or retracted, and put back.
    """

    exit_code = ExitCode.USAGE

    def __init__(
        self,
        message: str,
        *,
        because: Sequence[str] = (),
        note: str = "",
        remedy: str | Way = "",
        or_else: Sequence[str | Way] = (),
        meant: tuple[str, str] | None = None,
    ) -> None:
        super().__init__(message)
        self.because = tuple(because)
        self.note = note
        self.meant = meant
        self.told = False
        self.undone: frozenset[str] = frozenset()
        self.ways = tuple(way if isinstance(way, Way) else Way(way) for way in (remedy, *or_else) if way)


class WrongUsage(RabbetError):
    """A command can't be carried out as it was given."""


class NoDeclaration(WrongUsage):
    """Neither this folder nor one above it holds a declaration."""


class NoLock(WrongUsage):
    """The project has no lock yet."""


class NotUnderstood(RabbetError):
    """A file, or a requirement in it, can't be read."""

    exit_code = ExitCode.NOT_UNDERSTOOD


class NoSolution(RabbetError):
    """No set of releases meets all requirements."""

    exit_code = ExitCode.NO_SOLUTION


class SourceFailed(RabbetError):
    """A source is missing, silent, refuses, or answers something that can't be used."""

    exit_code = ExitCode.SOURCE


class IntegrityFailed(RabbetError):
    """Content is not what its record, its hash or its name says."""

    exit_code = ExitCode.INTEGRITY


class EnvironmentFailed(RabbetError):
    """A runtime, an environment, a folder or the disk is missing or not usable."""

    exit_code = ExitCode.ENVIRONMENT


class NoRuntime(EnvironmentFailed):
    """No runtime on this machine meets a constraint, and none can be obtained."""


class NotObtained(NoRuntime):
    """A locked runtime is not on this machine, but the lock names an archive of it."""


class BuildFailed(EnvironmentFailed):
    """A library's own build code failed, or made something else than it should."""


class NotAgreed(EnvironmentFailed):
    """The project's own build would run, and the user has not agreed to that."""


class CannotWrite(EnvironmentFailed):
    """A file or folder can't be written: permissions, a full disk, a name in use."""


class RuleRefused(RabbetError):
    """The lock breaks a rule, and the rules let no command go on with it."""

    exit_code = ExitCode.NO


class Fault(RabbetError):
    """Rabbet itself failed: something was raised that nobody foresaw."""

    exit_code = ExitCode.FAULT


class Interrupted(RabbetError):
    """The user stopped the command."""

    exit_code = ExitCode.INTERRUPTED
