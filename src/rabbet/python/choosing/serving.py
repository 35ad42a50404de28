"""Which targets a lock serves, and what makes it serve this machine without taking it from others."""

from collections.abc import Mapping, Sequence
from collections.abc import Set as AbstractSet

from packaging.markers import Marker
from packaging.version import Version

from rabbet.core.declaration.model import Declaration, allows_minor
from rabbet.core.model.lock import Lock, LockedCheckout, LockedCommit, LockedLibrary, Selection
from rabbet.core.model.target import Target, environment_of
from rabbet.errors import EnvironmentFailed, NotUnderstood
from rabbet.python.choosing.targets import BASELINES, MINORS, PLATFORMS, named_markers

__all__ = [
    "holds",
    "may_not_build",
    "places_of",
    "refuse_unserved",
    "serves",
    "serving_too",
    "what_building_does",
    "without_wheel",
]

_MINORS = [f"3.{minor}" for minor in range(6, 30)]
Place = tuple[str, str]
"""A platform's name and the first two numbers of Python's version."""


def serves(lock: Lock, target: Target) -> bool:
    """Whether the lock was made for this target; one that names no environments serves all."""
    return not lock.environments or any(holds(marker, target, Selection()) for marker in lock.environments)


def places_of(lock: Lock) -> Mapping[str, Place]:
    """The platforms and versions of Python that a lock was made for, by its markers, if they have names."""
    known = {
        environment_of(named_markers(platform, minor)): (platform, minor)
        for platform in reversed(PLATFORMS)
        for minor in _MINORS
    }
    return {environment: known[environment] for environment in lock.environments if environment in known}


def refuse_unserved(lock: Lock, target: Target, declaration: Declaration) -> None:
    """Raise `EnvironmentFailed` where a lock was made for other targets, with what makes it serve both."""
    if serves(lock, target):
        return
    places = places_of(lock).values()
    elsewhere = sorted({minor for platform, minor in places if platform == target.platform}, key=Version)
    made_for = [f"{platform} with Python {minor}" for platform, minor in places]
    notes = []
    if elsewhere:
        notes.append(f"with Python {' or '.join(elsewhere)} on this machine the lock would cover it")
    command = serving_too(lock, target, declaration)
    if command:
        notes.append("`rabbet resolve` alone would lock for this machine in place of that; for both:")
    raise EnvironmentFailed(
        f"the lock does not cover this machine: {target}",
        because=[f"it was made for {text}" for text in made_for or lock.environments],
        note="\n".join(notes),
        remedy=command or "rabbet resolve",
    )


def serving_too(lock: Lock, target: Target, declaration: Declaration) -> str:
    """The command that locks for a target as well as for those that the lock serves; empty if none does."""
    if target.platform not in PLATFORMS or not allows_minor(declaration.python, target.minor):
        return ""
    places = (*places_of(lock).values(), (target.platform, target.minor))
    platforms = {platform for platform, _ in places} | set(declaration.targets)
    minors = {minor for _, minor in places} | set(declaration.pythons)
    if not declaration.pythons and declaration.python and minors <= {*MINORS, target.minor}:
        minors = {target.minor}  # resolving locks for all that the range allows
    options = []
    if platforms != set(declaration.targets) and platforms != {target.platform}:
        options.append(f"--target {' '.join(sorted(platforms))}")
    if minors != set(declaration.pythons) and minors != {target.minor}:
        options.append(f"--python {' '.join(sorted(minors, key=Version))}")
    return f"rabbet declare {' '.join(options)} && rabbet resolve" if options else ""


def without_wheel(
    library: LockedLibrary, lock: Lock, target: Target, declaration: Declaration
) -> EnvironmentFailed:
    """The failure for a library that is locked with nothing that serves a target which the lock serves."""
    command = _with_baseline(lock, target, declaration)
    return EnvironmentFailed(
        f"the lock holds no wheel of {library.name} {library.version} for {target}",
        because=[wheel.filename for wheel in library.wheels],
        note="what follows makes the lock cover this machine's system, too:" if command else "",
        remedy=command or "rabbet resolve",
    )


def may_not_build(libraries: Sequence[LockedLibrary]) -> EnvironmentFailed:
    """The failure for libraries that would have to be built, which the declaration does not allow."""
    checkout = next((library for library in libraries if isinstance(library.tree, LockedCheckout)), None)
    if checkout is not None:
        return EnvironmentFailed(
            f"{checkout.name} is locked as the checkout in {_place(checkout)}, which is not declared",
            remedy="rabbet resolve",
        )
    named = sorted(libraries, key=lambda library: library.name)
    who = f"{named[0].name} {named[0].version} has" if len(named) == 1 else f"{len(named)} libraries have"
    reasons = [
        f"there is: {', '.join([*(wheel.filename for wheel in library.wheels), _place(library)])}"
        for library in named
    ]
    names = " ".join(library.name for library in named)
    return EnvironmentFailed(
        f"{who} no wheel for this machine, and may not be built",
        because=[*reasons, f"building {what_building_does(len(named))}"],
        note=f"if you trust {'it' if len(named) == 1 else 'them'}, allow that in the declaration:",
        remedy=f"rabbet declare --build-from-source {names} && rabbet resolve && rabbet recreate",
    )


def what_building_does(libraries: int) -> str:
    """The warning for users who allow that so many libraries are built."""
    whose = "it runs its" if libraries == 1 else "them runs their"
    return f"{whose} own code on this machine, as you"


def _with_baseline(lock: Lock, target: Target, declaration: Declaration) -> str:
    """The command that locks for a system as old as the target's, too; empty where it is served by name."""
    if target.platform not in PLATFORMS:
        return ""
    library, version = target.libc
    assumed = {**BASELINES, **declaration.baselines}.get(library, "")
    platforms = {platform for platform, _ in places_of(lock).values()} | {
        target.platform,
        *declaration.targets,
    }
    options = []
    if target.platform not in declaration.targets:
        options.append(f"--target {' '.join(sorted(platforms))}")
    if version and assumed and Version(version) < Version(assumed):
        options.append(f"--baseline {library}={version}")
    return f"rabbet declare {' '.join(options)} && rabbet resolve" if options else ""


def _place(library: LockedLibrary) -> str:
    """Where a library's source code lies."""
    source = library.source
    if isinstance(source, LockedCommit):
        return f"{source.url} at {source.commit}"
    if isinstance(source, LockedCheckout):
        return source.path
    return source.filename if source else ""


def holds(marker: str, target: Target, selection: Selection) -> bool:
    """Whether a lock's marker holds for a target with a selection. Raises `NotUnderstood`."""
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
