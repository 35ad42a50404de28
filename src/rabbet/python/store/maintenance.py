"""Size, clean-up and integrity checks of the store."""

import os
import shutil
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from msgspec import Struct

from rabbet.disk.folder import make_folder
from rabbet.python.store.checks import damaged_files
from rabbet.python.store.store import Store
from rabbet.store.advisory_index import AdvisoryIndex
from rabbet.store.blob_cache import BlobCache
from rabbet.store.layout import OBTAINED, PACKED, UNPACKED
from rabbet.store.obtained import digest_of_entry
from rabbet.store.pack import JOURNAL, Pack
from rabbet.store.trees import is_sound

__all__ = ["Holding", "Removed", "check", "holdings", "sweep"]

_SPARED = 3600  # seconds: what was used a moment ago may be in use by a run that is under way
_SELDOM = 30 * 86400  # seconds: what was not found up to date for so long may be looked at again
_LONG_RUN = 86400  # seconds: a build may write into its folder for hours
# What killed runs left, and what is made again: how old it may be, in seconds.
_LITTER = {
    **dict.fromkeys(("partial", "build-logs", "built", "searches", "trials-made"), _LONG_RUN),
    **dict.fromkeys(("advisories", "proofs", "sizes"), _SELDOM),
    "unchanged": _SELDOM,
}
_PURPOSES = {
    "wheels": "fetched files, by their hash",
    UNPACKED: "their contents, linked into environments",
    "metadata": "what releases need",
    "listings": "what indexes offer",
    "advisories": "records of known vulnerabilities",
    "repositories": "what was fetched of git repositories",
    OBTAINED: "runtimes that were obtained",
    "manifests": "how to make environments again at once",
}


_REMEMBERED = (
    "built",
    "manifests",
    "parsed",
    "proofs",
    "rules",
    "runtimes",
    "searches",
    "sizes",
    "states",
    "trials-made",
    "unchanged",
)


_PACKED = ("listings", "metadata")


class Holding(Struct, frozen=True, kw_only=True):
    """One part of the store: its purpose, how many entries it has, and their size in bytes."""

    name: str
    purpose: str
    entries: int
    size: int


class Removed(Struct, frozen=True, kw_only=True):
    """An entry that was removed: a wheel's hash or a runtime's name, its part, and its size in bytes."""

    part: str
    sha256: str
    size: int


def holdings(folder: Path) -> tuple[Holding, ...]:
    """All parts of the store that hold more than notes."""
    return tuple(
        Holding(
            name=name,
            purpose=purpose,
            entries=_count(folder / name),
            size=sum(_size(entry) for entry in _entries(folder / name)),
        )
        for name, purpose in _PURPOSES.items()
    )


def sweep(store: Store, folder: Path, used: frozenset[str], *, older: int = 0) -> tuple[Removed, ...]:
    """Remove the wheels, packed and unpacked, and the obtained runtimes that nobody uses, and old litter.

    `used` are the hashes that known environments and locks hold; what was used in the last `older` days, or
    in the last hour, stays too.
    """
    removed = []
    limit = time.time() - max(_SPARED, older * 86400)
    for part in (UNPACKED, "wheels"):
        for entry in _entries(folder / part):
            if entry.name in used:
                continue
            with store.claimed(f"wheel {entry.name}"):
                if not entry.exists() or entry.stat().st_mtime > limit:
                    continue  # gone meanwhile, or used
                size = _size(entry)
                _remove(entry, folder)
            removed.append(Removed(part=part, sha256=entry.name, size=size))
    for entry in _entries(folder / OBTAINED):
        digest = digest_of_entry(entry.name)
        if any(digest_used.startswith(digest) for digest_used in used) or entry.stat().st_mtime > limit:
            continue
        with store.claimed(f"runtime {entry.name}"):
            if not entry.is_dir() or entry.stat().st_mtime > limit:
                continue  # it was being built meanwhile
            size = _size(entry)
            _remove(entry, folder)
        removed.append(Removed(part=OBTAINED, sha256=entry.name, size=size))
    _sweep_litter(folder, limit, older)
    return tuple(removed)


def _sweep_litter(folder: Path, limit: float, older: int) -> None:
    """Remove short cuts not taken since `limit`, what killed runs left, and notes of what is gone."""
    for part in ("manifests", "parsed"):
        for entry in _entries(folder / part):
            if entry.stat().st_mtime <= limit:
                entry.unlink(missing_ok=True)  # a short cut, and it may lead to what was just removed
    for part, age in _LITTER.items():
        for entry in _entries(folder / part):
            if entry.lstat().st_mtime <= time.time() - max(age, older * 86400):
                _discard(entry)
    for part in _PACKED:
        for entry in _entries(folder / part):
            ours = entry.name.removesuffix(JOURNAL).endswith(PACKED)
            if not ours and entry.lstat().st_mtime <= time.time() - _LONG_RUN:
                _discard(entry)  # of an older Rabbet, or what a killed run left
    states = BlobCache(folder / "states")
    for key in states:
        if not (folder / UNPACKED / key.partition("-")[0]).exists():
            states.forget(key)


def check(store: Store, folder: Path) -> Iterator[str]:
    """Read everything again; yield what was damaged, and remove it.

    Unpacked files are compared with the wheel itself, all that is remembered against its digest. What was
    removed is fetched, unpacked or computed again when it is needed.
    """
    for entry in _entries(folder / "wheels"):
        for wheel in _entries(entry):
            if not is_sound(wheel, entry.name):
                with store.claimed(f"wheel {entry.name}"):
                    _remove(entry, folder)
                yield wheel.name
    for entry in _entries(folder / UNPACKED):
        damaged = damaged_files(store.entries, entry.name)
        if damaged:
            with store.claimed(f"wheel {entry.name}"):
                _remove(entry, folder)
            yield damaged[0]
    for part in _REMEMBERED:
        memory = BlobCache(folder / part)
        yield from (f"{part}/{key}" for key in memory if memory.recall(key) is None)
    for entry in _entries(folder / "advisories"):
        if entry.is_file() and not AdvisoryIndex(entry).is_whole():
            yield f"advisories/{entry.name}"
    for part in _PACKED:
        yield from _check_packs(folder / part)


def _check_packs(folder: Path) -> Iterator[str]:
    """Damaged entries in a folder's packs, and unreadable files; both are removed."""
    for file in _packs(folder):
        pack = Pack(file)
        damaged = [key for key in pack if pack.recall(key) is None]
        yield from (f"{folder.name}/{key}" for key in (damaged if pack.is_whole() else [file.name]))
        pack.close()


def _discard(entry: Path) -> None:
    """Remove a file, or a folder with all that it holds."""
    if entry.is_dir() and not entry.is_symlink():
        shutil.rmtree(entry, ignore_errors=True)
    else:
        entry.unlink(missing_ok=True)


def _packs(folder: Path) -> list[Path]:
    return [entry for entry in _entries(folder) if entry.suffix == PACKED]


def _count(folder: Path) -> int:
    """How many things a part holds, those in packs one by one."""
    if folder.name in _PACKED:
        return sum(_count_in(Pack(file)) for file in _packs(folder))
    return len(_entries(folder))


def _count_in(pack: Pack) -> int:
    count = sum("-" not in key for key in pack)  # others tell something of an entry
    pack.close()
    return count


def _remove(entry: Path, folder: Path) -> None:
    """Rename an entry, then remove it, so that nobody finds half of it."""
    litter = folder / "partial" / f"removed-{entry.name}-{os.getpid()}"
    make_folder(litter.parent)
    with suppress(FileNotFoundError):
        entry.rename(litter)
    shutil.rmtree(litter, ignore_errors=True)


def _entries(folder: Path) -> list[Path]:
    try:
        return sorted(folder.iterdir())
    except OSError:
        return []


def _size(path: Path) -> int:
    if not path.is_dir():
        return path.lstat().st_size
    return sum(file.lstat().st_size for file in path.rglob("*") if not file.is_dir())
