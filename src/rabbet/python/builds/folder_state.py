"""The inputs of a source tree's editable wheel; imports little, since the lightest runs need it."""

import hashlib
import os
from contextlib import suppress

from rabbet.core.limits import MOST_BY_HAND
from rabbet.disk.regular_file import read_regular

__all__ = ["folder_state", "modules_state", "needs_state", "sources_state", "tree_state"]

_TOLD_IN = ("pyproject.toml", "setup.py", "setup.cfg")  # where a source tree says what it is built to
_LISTS = (".txt", ".in", ".cfg")  # the endings of files with needs, such as `requirements.txt`
_DIGITS = 32
_NOT_BUILT = (b"tool.rabbet", b"dependency-groups")  # tables of a declaration
_MADE = ("__pycache__", "build", "dist")  # what builds and Python leave in a tree


def folder_state(tree: str) -> str:
    """A digest of all that an editable wheel of the tree may follow from."""
    return f"{sources_state(tree)}-{modules_state(tree)}"


def sources_state(tree: str) -> str:
    """A digest of where the tree lies, and of its build system.

    What stands in its modules may change without a rebuild of the tree.
    """
    digest = hashlib.sha256(os.fsencode(os.path.realpath(tree)))
    for name in _TOLD_IN:
        content = b""
        with suppress(OSError):
            content = _without_rabbets_own(read_regular(f"{tree}/{name}", most=MOST_BY_HAND))
        digest.update(hashlib.sha256(content).digest())
    return digest.hexdigest()


def modules_state(tree: str) -> str:
    """A digest of the names of modules that the tree could import: an editable wheel may name each."""
    names = [_importable(folder) for folder in (tree, f"{tree}/src")]
    return hashlib.sha256(repr(names).encode(errors="surrogateescape")).hexdigest()[:_DIGITS]


def needs_state(tree: str) -> str:
    """A digest of what a build may take a project's needs from, the same wherever the tree lies.

    That are the files that say how it is built, and the lists and configurations beside them.
    """
    digest = hashlib.sha256()
    with suppress(OSError), os.scandir(tree) as entries:
        names = {entry.name for entry in entries if entry.name.endswith(_LISTS)}
        for name in sorted(names | {*_TOLD_IN}):
            content = b""
            with suppress(OSError):
                content = _without_rabbets_own(read_regular(f"{tree}/{name}", most=MOST_BY_HAND))
            digest.update(hashlib.sha256(name.encode(errors="surrogateescape") + b"\0" + content).digest())
    return digest.hexdigest()[:_DIGITS]


def tree_state(tree: str) -> str:
    """A digest of the places, sizes and times of all files that a wheel may be built from.

    Left out are hidden ones, environments, what builds and Python leave, and what Rabbet writes itself.
    """
    found = []
    waiting = [tree]
    while waiting:
        folder = waiting.pop()
        with suppress(OSError), os.scandir(folder) as entries:
            inside = [entry for entry in entries if not _is_made(entry.name)]
            if any(entry.name == "pyvenv.cfg" for entry in inside):
                continue
            for entry in inside:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                elif folder != tree or entry.name != "pyproject.toml":  # of that, `folder_state` knows more
                    state = entry.stat(follow_symlinks=False)
                    found.append((entry.path, state.st_size, state.st_mtime_ns))
    return hashlib.sha256(repr(sorted(found)).encode(errors="surrogateescape")).hexdigest()


def _is_made(name: str) -> bool:
    """Whether nothing is built from what has this name."""
    locked = name.startswith("pylock.") and name.endswith(".toml")
    return locked or name in _MADE or name.startswith(".") or name.endswith(".egg-info")


def _without_rabbets_own(declaration: bytes) -> bytes:
    """A declaration without the tables that no build looks at, so that these may change.

    It works on lines: a string of several lines may cause an unnecessary build, and nothing worse.
    """
    kept, dropping = [], False
    for line in declaration.splitlines():
        if line.startswith(b"["):
            dropping = line.lstrip(b"[").startswith(_NOT_BUILT)
        if not dropping:
            kept.append(line)
    return b"\n".join(kept)


def _importable(folder: str) -> list[str]:
    with suppress(OSError), os.scandir(folder) as entries:
        return sorted(
            entry.name
            for entry in entries
            if entry.name.endswith(".py")
            or (entry.name.isidentifier() and entry.name not in _MADE and _holds_modules(entry.path))
        )
    return []


def _holds_modules(folder: str) -> bool:
    """Whether a folder may be a package: one of notes, reports or data is none."""
    with suppress(OSError), os.scandir(folder) as entries:
        return any(entry.name.endswith((".py", ".so", ".pyd")) or entry.is_dir() for entry in entries)
    return False
