"""Check every file of an environment against the records of what was installed.

Python loads what lies in `lib` and starts what lies in `bin`, so nothing there may be unknown: neither a
module in a library's folder, nor a `.pth` file, a link or a command. Elsewhere in an environment only what
libraries recorded is looked at.
"""

import os
import stat
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import suppress
from heapq import heapreplace
from pathlib import Path
from typing import NamedTuple, TypeAlias

from msgspec.structs import replace

from rabbet.core.model.cause import Reason, ReasonWith
from rabbet.core.model.inventory import Installed
from rabbet.disk.regular_file import sha256_of_regular
from rabbet.python.environment.look.known_files import KnownFiles
from rabbet.python.environment.place.install_state import STATE_FILE, InstallState
from rabbet.python.environment.place.layout import Layout
from rabbet.python.formats.record import RecordRow
from rabbet.work.forked import in_processes

__all__ = ["Begin", "Reading", "RecordedLibrary", "examine", "unobserved"]

_AT_ONCE = 200  # files that are read between two reports
_FEW, _SMALL = 500, 10_000_000  # files, and bytes of all of them, that are worth a process of their own
_OPENING = 10_000  # bytes that are read in the time that it takes to open a file
Begin: TypeAlias = Callable[[int], Callable[[int], None]]
_LOOSE = 0o7022  # permissions that let others write, or that lend the owner's rights
_READABLE = 0o444
_LOADED = (".py", ".pyc", ".so", ".pyd", ".pth", ".egg", ".egg-link")


def unobserved(size: int) -> Callable[[int], None]:  # noqa: ARG001 - nobody is told
    """A progress callback that does nothing."""
    return lambda _: None


class Reading(NamedTuple):
    """How files are read: `begin` is told how many bytes there are, and gives what is told of each part.

    What is `known` need not be read, and gets to know what was.
    """

    begin: Begin = unobserved
    known: KnownFiles | None = None


class RecordedLibrary(NamedTuple):
    """An installed library, and the rows of its record by the places that they mean.

    One without a record may have `claimed` modules in another way.
    """

    library: Installed
    rows: Mapping[str, RecordRow]
    claimed: frozenset[str] = frozenset()


def examine(
    layout: Layout,
    found: Sequence[RecordedLibrary],
    install_state: InstallState | None,
    reading: Reading,
) -> tuple[list[RecordedLibrary], tuple[str, ...], tuple[ReasonWith, ...]]:
    """The libraries with what was altered of them; the places of strays; what is wrong with the environment.

    Without an install state nobody can say what belongs there: then strays are what lies beside libraries in
    the folder that they are imported from, and is none of theirs, and there is no such damage.
    What is known already is not read again.
    """
    digests: defaultdict[str, set[str | None]] = defaultdict(set)
    for recorded in found:
        for place, row in recorded.rows.items():
            digests[place].add(row.sha256)
    sizes = {place: row.size or 0 for recorded in found for place, row in recorded.rows.items()}
    known = reading.known or KnownFiles()
    states = known.states(str(layout.root), digests)  # before any file is read
    unread = {place: digests[place] for place in digests if not known.is_known(place, states.get(place))}
    done = reading.begin(sum(sizes[place] for place in unread))
    read_of = {place: sizes[place] for place in unread}
    wrong = _altered(layout.root, unread, read_of, lambda places: done(sum(sizes[path] for path in places)))
    known.sound.update((place, state) for place, state in states.items() if place not in wrong)
    actual = dict(_overwritten(layout.root, digests, wrong))
    looked_at = [
        RecordedLibrary(_with_wrong(recorded, wrong, actual, layout.root), recorded.rows)
        for recorded in found
    ]
    if install_state is None:
        return looked_at, tuple(sorted(_unowned(layout, found))), ()
    unknown = (
        place for place in _places(layout.root) if place not in digests and place not in install_state.own
    )
    by_products = _ByProducts(found)
    own = tuple(
        f"{layout.site_packages}/{recorded.library.folder}/"
        for recorded in found
        if not recorded.library.recorded
    )
    strays = (place for place in unknown if not by_products.holds(place) and not place.startswith(own))
    return looked_at, tuple(sorted(strays)), tuple(_damage(layout, install_state))


def _unowned(layout: Layout, found: Sequence[RecordedLibrary]) -> Iterator[str]:
    """Files in the libraries' folder that Python might load, and that no library lists."""
    site = f"{layout.site_packages}/"
    owned = {place[len(site) :].partition("/")[0] for recorded in found for place in recorded.rows}
    owned |= {recorded.library.folder for recorded in found} | {"__pycache__"}
    claimed = {name for recorded in found for name in recorded.claimed}
    with suppress(OSError), os.scandir(layout.site) as entries:
        for entry in entries:
            stem = entry.name.partition(".")[0]
            loaded = entry.name.endswith(_LOADED) or entry.is_symlink() or entry.is_dir(follow_symlinks=False)
            if (
                loaded
                and entry.name not in owned
                and not claimed.intersection((stem, stem.lower(), stem.lstrip("_")))
            ):
                yield site + entry.name


def _overwritten(
    root: Path, digests: Mapping[str, set[str | None]], wrong: set[str]
) -> Iterator[tuple[str, str]]:
    """The digests of files that libraries recorded differently: one has overwritten another's."""
    for place, recorded in digests.items():
        if len(recorded - {None}) > 1 and place not in wrong:
            with suppress(OSError):
                yield place, sha256_of_regular(f"{root}/{place}")


def _with_wrong(
    library: RecordedLibrary, wrong: set[str], actual: Mapping[str, str], root: Path
) -> Installed:
    """A library with those of its files that are not as recorded; `actual` are the digests of some."""
    places = [
        place
        for place, row in library.rows.items()
        if place in wrong or (row.sha256 and actual.get(place, row.sha256) != row.sha256)
    ]
    loose = (
        library.rows[place].path for place in places if _has_content(f"{root}/{place}", library.rows[place])
    )
    gone = (library.rows[place].path for place in places if not os.path.lexists(f"{root}/{place}"))
    altered = (library.rows[place].path for place in places)
    told = dict.fromkeys((*library.library.altered, *altered))  # a record may be wrong in two ways
    return replace(library.library, altered=tuple(told), gone=tuple(gone), loose=tuple(loose))


def _has_content(path: str, row: RecordRow) -> bool:
    """Whether a file has the content that was recorded, so that its permissions are what is wrong."""
    try:
        return bool(row.sha256) and sha256_of_regular(path) == row.sha256
    except OSError:
        return False


def _altered(
    root: Path,
    digests: Mapping[str, set[str | None]],
    sizes: Mapping[str, int],
    done: Callable[[Sequence[str]], None],
) -> set[str]:
    """The places whose files are not what any of those who recorded them say; read on all cores."""

    def read(places: Sequence[str], done: Callable[[Sequence[str]], None]) -> list[str]:
        wrong = []
        for begun in range(0, len(places), _AT_ONCE):
            part = places[begun : begun + _AT_ONCE]
            wrong += [path for path in part if not _as_recorded(f"{root}/{path}", digests[path])]
            done(part)
        return wrong

    if not digests:
        return set()
    count = 1 + max(len(digests) // _FEW, sum(sizes.values()) // _SMALL)
    return set(in_processes(read, _parts(sizes, min(count, os.cpu_count() or 1)), done))


def _parts(sizes: Mapping[str, int], count: int) -> list[list[str]]:
    """All places in so many parts that take about as long to read."""
    parts: list[list[str]] = [[] for _ in range(count)]
    waiting = [(0, number) for number in range(count)]  # a heap: the lightest part comes first
    for place, size in sorted(sizes.items(), key=lambda entry: -entry[1]):
        weight, number = waiting[0]
        parts[number].append(place)
        heapreplace(waiting, (weight + size + _OPENING, number))
    return parts


def _as_recorded(path: str, digests: set[str | None]) -> bool:
    """Whether a file is there, is no link, has sane permissions, and one of these digests, if any."""
    try:
        mode = os.lstat(path).st_mode
        if not stat.S_ISREG(mode) or mode & _LOOSE or mode & _READABLE != _READABLE:
            return False
        known = digests - {None}
        if not known:
            return True
        return sha256_of_regular(path) in known
    except OSError:
        return False


def _places(root: Path) -> Iterator[str]:
    """All files and links that Python may load or start; no link is followed."""
    waiting = ["lib", "bin"]
    while waiting:
        folder = waiting.pop()
        with suppress(OSError), os.scandir(f"{root}/{folder}") as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(f"{folder}/{entry.name}")
                else:
                    yield f"{folder}/{entry.name}"


class _ByProducts:
    """Files that Python writes beside a module (PEP 3147) and no `RECORD` lists.

    Modules of a library that came compiled are compiled already: another such file is none of Python's.
    """

    def __init__(self, found: Sequence[RecordedLibrary]) -> None:
        self._compiled = {
            place
            for recorded in found
            if any(place.endswith(".pyc") for place in recorded.rows)
            for place in recorded.rows
            if place.endswith(".py")
        }

    def holds(self, place: str) -> bool:
        """Whether a file is one."""
        folder, _, name = place.rpartition("/")
        above, _, cache = folder.rpartition("/")
        if cache != "__pycache__" or not name.endswith(".pyc"):
            return False
        module, _, kind = name.removesuffix(".pyc").partition(".")
        return f"{above}/{module}.py" not in self._compiled or "opt-" in kind or "-pytest-" in kind


def _damage(layout: Layout, install_state: InstallState) -> Iterator[ReasonWith]:
    """Faults of the environment's own folders, files and links."""
    root = layout.root
    for folder in sorted(layout.own_folders - {""}):
        if (root / folder).is_symlink() or not (root / folder).is_dir():
            yield ReasonWith(Reason.NOT_A_FOLDER, folder)
    for place, expected in sorted(install_state.own.items()):
        path = root / place
        try:
            if path.is_symlink():
                same = str(path.readlink()) == expected
            else:
                same = _as_recorded(str(path), {expected})
        except OSError:
            same = False
        if not same:
            there = os.path.lexists(path)
            yield ReasonWith(Reason.OWN_FILE_ALTERED if there else Reason.OWN_FILE_GONE, place)
    if (root / STATE_FILE).is_symlink():
        yield ReasonWith(Reason.IS_A_LINK, STATE_FILE)
