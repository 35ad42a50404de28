"""The one place that starts git.

The configuration of a repository may name programs: for transports, ssh, credentials, hooks, a pager, a
diff, a file monitor. Its author may be a stranger, and none of these programs may run because
Rabbet asks something. So a repository of others is asked by `ask_git`, with every way closed that leads to a
program; and `own_repository.py` asks the network, in a repository that Rabbet made itself.
"""

from collections.abc import Mapping, Sequence
from pathlib import Path

from rabbet.errors import SourceFailed
from rabbet.work.ask import Bounds, NoAnswer, ProgramAnswer, ask

__all__ = ["CLOSED", "INERT", "ask_git", "run_git", "top_of"]

_SECONDS = 120  # of what touches this disk alone
_MOST = 100_000_000  # bytes of an answer; what is asked for by its size is less
# Variables that say which repository is meant, or what is in it; a hook or a clone's tools may have set them.
_MISLEADING = frozenset(
    f"GIT_{name}"
    for name in (
        *("ALTERNATE_OBJECT_DIRECTORIES", "COMMON_DIR", "CONFIG", "DIR", "EXTERNAL_DIFF", "GRAFT_FILE"),
        *("IMPLICIT_WORK_TREE", "INDEX_FILE", "INTERNAL_SUPER_PREFIX", "NAMESPACE", "OBJECT_DIRECTORY"),
        *("PREFIX", "QUARANTINE_PATH", "REPLACE_REF_BASE", "SHALLOW_FILE", "WORK_TREE"),
    )
)
_ALWAYS = {
    "GIT_TERMINAL_PROMPT": "0",
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_LITERAL_PATHSPECS": "1",
    "GIT_NO_REPLACE_OBJECTS": "1",
    "GIT_PAGER": "cat",
    "LC_ALL": "C",  # some of what git says is read
}
CLOSED = {"GIT_ALLOW_PROTOCOL": "", "GIT_NO_LAZY_FETCH": "1"}
"""Variables with which git asks no other repository, whatever a configuration allows."""

_OPTIONS = {
    "core.alternateRefsCommand": "true",
    "core.attributesFile": "/dev/null",
    "core.bigFileThreshold": "50m",
    "core.fsmonitor": "false",
    "core.hooksPath": "/dev/null",
    "diff.orderFile": "/dev/null",
    "fetch.recurseSubmodules": "false",
    "gc.auto": "0",
    "log.diffMerges": "off",
    "log.mailmap": "false",
    "log.showSignature": "false",
    "maintenance.auto": "false",
    "push.gpgSign": "false",
    "push.recurseSubmodules": "no",
    "safe.bareRepository": "explicit",
}
INERT = tuple(word for name, value in _OPTIONS.items() for word in ("-c", f"{name}={value}"))
"""Options with which git starts no program that a repository names."""


def top_of(folder: Path) -> Path | None:
    """The folder of the repository that a folder lies in: the nearest that holds a `.git`.

    A folder that is itself laid out as a repository may have come with a clone, file by file. It is none
    here, and neither is what lies below it: git would take its configuration for the user's.
    """
    folder = folder.resolve()
    for place in (folder, *folder.parents):
        if (place / ".git").exists():
            return place
        if (place / "HEAD").exists() and any((place / entry).exists() for entry in ("objects", "commondir")):
            return None
    return None


def ask_git(
    folder: Path,
    arguments: Sequence[str],
    environ: Mapping[str, str],
    *,
    given: bytes = b"",
    seconds: int = _SECONDS,
) -> ProgramAnswer:
    """Ask the repository that a folder lies in; exit code 128, as git has it, where it lies in none.

    Nothing that the repository or its configuration names is run, and no other repository is asked. Raises
    `SourceFailed` when git can't be run, takes too long, or answers without end.
    """
    if top_of(folder) is None:
        return ProgramAnswer(code=128, out=b"", err=b"not in a repository")
    return run_git(arguments, folder, {**environ, **CLOSED}, given=given, seconds=seconds)


def run_git(
    arguments: Sequence[str],
    folder: Path,
    environ: Mapping[str, str],
    *,
    given: bytes = b"",
    seconds: int = _SECONDS,
    apart: bool = True,
) -> ProgramAnswer:
    """Run git in a folder to its end (see `ask` for `apart`). Raises `SourceFailed` as `ask_git` does."""
    kept = {name: value for name, value in environ.items() if name not in _MISLEADING}
    try:
        return ask(
            ["git", "--no-pager", *INERT, *arguments],
            {**kept, **_ALWAYS},
            folder=folder,
            given=given,
            bounds=Bounds(seconds, _MOST),
            apart=apart,
        )
    except NoAnswer as error:
        raise SourceFailed("git can't be asked", because=[str(error)]) from error
