"""A lock → what one machine needs of it (PEP 751, "Installation")."""

from collections.abc import Sequence

from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.file_name import parse_wheel_name
from rabbet.core.lock.serving import holds, refuse_unserved, without_wheel
from rabbet.core.model.declaration import Declaration
from rabbet.core.model.lock import Lock, LockedArchive, LockedLibrary, LockedWheel, Needed, Selection
from rabbet.core.model.target import Target
from rabbet.errors import EnvironmentFailed, NotUnderstood

__all__ = ["libraries_for", "needed"]


def needed(lock: Lock, target: Target, selection: Selection, declaration: Declaration) -> tuple[Needed, ...]:
    """The libraries that this machine installs for a selection, each with the wheel that serves it best.

    Raises `EnvironmentFailed`, with what helps by the declaration, when the lock does not serve the target,
    or holds no wheel for it.
    """
    refuse_unserved(lock, target, declaration)
    found = libraries_for(lock, target, selection)
    _refuse_twins(found)
    for library in found:
        _check_python(library, target)
    chosen = []
    for library in found:
        wheel = _best_wheel(library, target)
        if wheel is None:
            raise without_wheel(library, lock, target, declaration)
        chosen.append(Needed(locked=library, artifact=wheel))
    return tuple(chosen)


def libraries_for(lock: Lock, target: Target, selection: Selection) -> tuple[LockedLibrary, ...]:
    """The libraries that a target which the lock serves needs for a selection."""
    return tuple(
        library
        for library in lock.libraries
        if library.marker is None or holds(library.marker, target, selection)
    )


def _refuse_twins(found: Sequence[LockedLibrary]) -> None:
    """Raise `NotUnderstood` where one machine would get two releases of a library (PEP 751)."""
    seen: dict[NormalizedName, LockedLibrary] = {}
    for library in found:
        other = seen.setdefault(library.name, library)
        if other is not library:
            raise NotUnderstood(
                f"the lock holds two entries of {library.name} for this machine",
                because=[f"versions {other.version} and {library.version}"],
                remedy="rabbet resolve --raise-all",
            )


def _check_python(library: LockedLibrary, target: Target) -> None:
    """Raise `EnvironmentFailed` for an entry that does not serve the target's Python."""
    told = library.requires_python
    if told and not SpecifierSet(told).contains(target.python, prereleases=True):
        raise EnvironmentFailed(
            f"{library.name} {library.version} of the lock does not serve {target}",
            because=[f"it needs Python {told}"],
            remedy="rabbet resolve",
        )


def _best_wheel(library: LockedLibrary, target: Target) -> LockedWheel | LockedArchive | None:
    ranked = []
    for wheel in sorted(library.wheels, key=lambda one: one.filename):
        parsed = parse_wheel_name(wheel.filename)
        ranks = [target.tags[tag] for tag in parsed.tags or () if tag in target.tags]
        if ranks:
            ranked.append((-min(ranks), parsed.build, wheel))
    return max(ranked, key=lambda one: one[:2])[2] if ranked else None
