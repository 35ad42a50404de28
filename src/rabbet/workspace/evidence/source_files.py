"""The Python files and notebooks of a project, and what they import; nothing of them is run."""

import hashlib
import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import NamedTuple

from rabbet.core.limits import MOST_SOURCE
from rabbet.disk.regular_file import read_regular
from rabbet.python.code.imports import ImportSite, role_of
from rabbet.python.code.python_source import Imported, SourceBroken, imports_in, imports_in_notebook

__all__ = ["SourceImports", "imports_of", "source_state", "source_texts"]

_SKIPPED = {"__pycache__", "node_modules", "build", "dist", "site-packages"}
_MODULES = (".py", ".so", ".pyd")  # the endings of files that hold a module
_MARKS = ("pyvenv.cfg",)  # of environments
_WORTH_ALL_CORES = 200  # files
_AT_ONCE = 50  # files that a process is given at a time


class SourceImports(NamedTuple):
    """The files' imports from elsewhere, the number of files, and why some can't be read.

    `names` are those of all modules and folders among them. What lines of notebooks install is `installed`.
    """

    sites: list[ImportSite]
    installed: list[ImportSite]
    files: int
    names: frozenset[str]
    unreadable: dict[str, str]


def imports_of(folder: Path, only: str | None = None) -> SourceImports:
    """Read a project's files, or only one; what lies beside a file, or above it, is the project's own."""
    files = sorted(_files(str(folder))) if only is None else [only]
    sites: list[ImportSite] = []
    installed: list[ImportSite] = []
    unreadable: dict[str, str] = {}
    own = cache(lambda place: _names(folder / place))
    top = own("") | own("src")
    for file, found in zip(files, _read(str(folder), files), strict=True):
        if isinstance(found, str):
            unreadable[file] = found
            continue
        above = file.split("/")[:-1]
        near = top.union(*(own("/".join(above[:count])) for count in range(1, len(above) + 1)))
        role = role_of(file)
        installed += (
            ImportSite(imported.module, (), file, imported.line, role)
            for imported in found
            if imported.guard == "installed"
        )
        sites += (
            ImportSite(imported.module, imported.inside, file, imported.line, role, imported.guard != "")
            for imported in found
            if imported.guard not in ("typing", "installed") and imported.module.partition(".")[0] not in near
        )
    names = frozenset(part.removesuffix(".py") for file in files for part in file.split("/"))
    return SourceImports(sites, installed, len(files), names, unreadable)


def source_texts(folder: Path, only: str | None = None) -> Iterator[tuple[str, str]]:
    """The texts of a project's files of Python code, or of one, by place, as far as they can be read."""
    for file in sorted(_files(str(folder))) if only is None else [only]:
        if file.endswith(".py"):
            with suppress(OSError):
                yield file, read_regular(folder / file, most=MOST_SOURCE).decode("utf-8", "replace")


def source_state(folder: Path) -> str:
    """A digest of the places, sizes and times of a project's files of code."""
    found = []
    for file in sorted(_files(str(folder))):
        with suppress(OSError):
            state = (folder / file).stat()
            found.append((file, state.st_size, state.st_mtime_ns))
    return hashlib.sha256(repr(found).encode(errors="surrogateescape")).hexdigest()


def _files(folder: str) -> Iterator[str]:
    """Places of files relative to the folder; no link, no environment and no hidden folder is entered."""
    waiting = [""]
    while waiting:
        place = waiting.pop()
        try:
            with os.scandir(f"{folder}/{place}") as entries:
                found = sorted(entries, key=lambda entry: entry.name)
        except OSError:
            continue
        if any(entry.name in _MARKS for entry in found):
            continue
        for entry in found:
            path = f"{place}/{entry.name}".lstrip("/")
            if entry.is_dir(follow_symlinks=False):
                if entry.name not in _SKIPPED and not entry.name.startswith("."):
                    waiting.append(path)
            elif _is_source(entry.name) and entry.is_file(follow_symlinks=False):
                yield path


def _is_source(name: str) -> bool:
    """Whether a file's imports count; those of a build script are met by what its build requires."""
    return name.endswith((".py", ".ipynb")) and name != "setup.py"


def _names(folder: Path) -> frozenset[str]:
    """Importable names in a folder: modules and folders."""
    try:
        with os.scandir(folder) as entries:
            return frozenset(
                entry.name.partition(".")[0]
                for entry in entries
                if entry.name.endswith(_MODULES) or (entry.name.isidentifier() and entry.is_dir())
            )
    except OSError:
        return frozenset()


def _read(folder: str, files: Sequence[str]) -> Iterator[tuple[Imported, ...] | str]:
    """The imports of each file, or why it can't be read; many files are read on all cores."""
    paths = [f"{folder}/{file}" for file in files]
    if len(paths) < _WORTH_ALL_CORES or (os.cpu_count() or 1) == 1:
        yield from map(_read_one, paths)
        return
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        yield from pool.map(_read_one, paths, chunksize=_AT_ONCE)


def _read_one(path: str) -> tuple[Imported, ...] | str:
    try:
        content = read_regular(path, most=MOST_SOURCE)
        return imports_in_notebook(content) if path.endswith(".ipynb") else imports_in(content)
    except OSError as error:
        return error.strerror or str(error)
    except SourceBroken as error:
        return str(error)
