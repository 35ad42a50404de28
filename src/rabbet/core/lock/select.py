"""A lock → what one machine needs of it (PEP 751, "Installation")."""

from collections.abc import Sequence
from collections.abc import Set as AbstractSet

from packaging.markers import Marker
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.file_name import parse_wheel_name
from rabbet.core.model.lock import Lock, LockedCommit, LockedFile, LockedLibrary, Needed, Selection
from rabbet.core.model.target import Target
from rabbet.errors import EnvironmentFailed, NotUnderstood

__all__ = ["libraries_for", "needed", "serves"]


def serves(lock: Lock, target: Target) -> bool:
    """Whether the lock was made for this target; one that names no environments serves all."""
    return not lock.environments or any(_holds(marker, target, Selection()) for marker in lock.environments)


def needed(lock: Lock, target: Target, selection: Selection) -> tuple[Needed, ...]:
    """The libraries that this machine installs for a selection, each with the wheel that serves it best.

    Raises `EnvironmentFailed` when the lock does not serve the target, or holds no wheel for it.
    """
    found = libraries_for(lock, target, selection)
    _refuse_twins(found)
    for library in found:
        _check_python(library, target)
    return tuple(Needed(locked=library, wheel=_best_wheel(library, target)) for library in found)


def libraries_for(lock: Lock, target: Target, selection: Selection) -> tuple[LockedLibrary, ...]:
    """The libraries that a target needs for a selection.

    Raises `EnvironmentFailed` when the lock does not serve the target.
    """
    if not serves(lock, target):
        raise EnvironmentFailed(
            f"the lock does not serve this machine: {target}",
            because=[f"it was made for: {marker}" for marker in lock.environments],
            remedy="rabbet resolve",
        )
    return tuple(
        library
        for library in lock.libraries
        if library.marker is None or _holds(library.marker, target, selection)
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


def _best_wheel(library: LockedLibrary, target: Target) -> LockedFile:
    ranked = []
    for wheel in sorted(library.wheels, key=lambda one: one.filename):
        parsed = parse_wheel_name(wheel.filename)
        if not isinstance(parsed, str):
            ranks = [target.tags[tag] for tag in parsed.tags or () if tag in target.tags]
            if ranks:
                ranked.append((-min(ranks), parsed.build, wheel))
    if not ranked and (library.sdist or library.tree):
        raise EnvironmentFailed(
            f"{library.name} {library.version} is locked as source code, and Rabbet can't build it yet",
            because=[_place(library)],
            remedy=f"take {library.name} from a release with wheels; then: rabbet resolve",
        )
    if not ranked:
        raise EnvironmentFailed(
            f"the lock holds no wheel of {library.name} {library.version} for {target}",
            because=[wheel.filename for wheel in library.wheels],
            remedy="rabbet resolve",
        )
    return max(ranked, key=lambda one: one[:2])[2]


def _place(library: LockedLibrary) -> str:
    """Where a library's source code lies."""
    if isinstance(library.tree, LockedCommit):
        return f"{library.tree.url} at {library.tree.commit}"
    if library.tree is not None:
        return library.tree.path
    return library.sdist.filename if library.sdist else ""


def _holds(marker: str, target: Target, selection: Selection) -> bool:
    environment: dict[str, str | AbstractSet[str]] = {
        **target.markers,
        "dependency_groups": selection.groups,
        "extras": selection.extras,
    }
    try:
        return Marker(marker).evaluate(environment, context="lock_file")
    except (
        ValueError,
        KeyError,
    ) as error:  # no marker, what it can't compare, or a number that Python refuses to read
        raise NotUnderstood(f"the lock holds the marker '{marker}'", because=[str(error)]) from error
