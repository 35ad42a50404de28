"""A folder of wheels that were built from source, with a list of what each was built from: for teammates.

It takes in the builds of many machines: what lies there already stays.
"""

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import NamedTuple

from rabbet.core.limits import MOST_PAGE
from rabbet.core.model.lock import LockedFile, Needed, ToInstall, Unbuilt
from rabbet.core.progress import Observer
from rabbet.disk.atomic import copied_hashed
from rabbet.disk.guarded import GuardedFolder
from rabbet.errors import IntegrityFailed, NotUnderstood
from rabbet.net.local_file import read_pieces
from rabbet.python.formats.built_wheels import (
    BUILDS_FILE,
    BuiltWheel,
    Facts,
    NotBuiltWheels,
    built_wheels_text,
    read_built_wheels,
)
from rabbet.python.store.store import Store

__all__ = ["Built", "to_build", "write_built"]


class Built(NamedTuple):
    """A library with the wheel that was built for it here, and what that build followed from."""

    library: Needed
    facts: Facts

    @property
    def wheel(self) -> BuiltWheel:
        """The wheel as the list has it."""
        locked, artifact = self.library.locked, self.library.artifact
        return BuiltWheel(
            name=locked.name,
            version=str(locked.version),
            filename=artifact.filename,
            sha256=artifact.sha256,
            size=artifact.size or 0,
            facts=dict(self.facts),
        )


def to_build(needed: Iterable[ToInstall]) -> Iterator[Unbuilt]:
    """All that is built, also for other builds; each once, and nothing whose sources may change."""
    seen: set[str] = set()
    waiting = list(needed)
    for library in waiting:  # it grows on the way
        if isinstance(library, Unbuilt):
            waiting += library.environment
            if not library.local and library.digest not in seen:
                seen.add(library.digest)
                yield library


def write_built(
    found: Sequence[Built], folder: GuardedFolder, store: Store, observer: Observer
) -> tuple[int, int]:
    """Write what is not there yet, the list last; how many wheels are new, and how many others there are.

    Raises `NotUnderstood` for a folder that holds something else, `IntegrityFailed`, `OSError`.
    """
    names = folder.names()
    if names and BUILDS_FILE not in names and names != ["wheels"]:
        raise NotUnderstood(f"{folder.root} holds something else", because=["it is neither new nor empty"])
    before = _listed(folder) if BUILDS_FILE in names else ()
    own = {built.wheel.identity for built in found}
    others = [wheel for wheel in before if wheel.identity not in own]
    new = 0
    for built in found:
        wheel = built.wheel
        if wheel not in before or not folder.holds(wheel.place, wheel.sha256):
            _copy(wheel, built.library.artifact, folder, store)
            new += 1
        observer.step(wheel.filename)
    folder.write(BUILDS_FILE, built_wheels_text([*others, *(built.wheel for built in found)]).encode())
    return new, len(others)


def _copy(wheel: BuiltWheel, file: LockedFile, folder: GuardedFolder, store: Store) -> None:
    source = store.fetched(file, partial(_gone, file))
    with folder.replacing(wheel.place, mode=0o644) as target:
        told = copied_hashed(target, read_pieces(source), algorithm="sha256", most=wheel.size)
        if told != (wheel.sha256, wheel.size):
            raise IntegrityFailed(f"{wheel.filename} is not what was built", because=["it was altered"])


def _listed(folder: GuardedFolder) -> tuple[BuiltWheel, ...]:
    try:
        return read_built_wheels(folder.read(BUILDS_FILE, most=MOST_PAGE))
    except NotBuiltWheels as error:
        place = folder.root / BUILDS_FILE
        raise NotUnderstood(f"{place} is not a list of built wheels", because=[str(error)]) from error


def _gone(file: LockedFile) -> Iterator[bytes]:
    raise IntegrityFailed(
        f"{file.filename} was built here, and is gone from the store", remedy="rabbet recreate --fresh"
    )
