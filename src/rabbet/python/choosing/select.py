"""A lock → what one machine needs of it (PEP 751, "Installation")."""

from collections.abc import Sequence

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import (
    OWN_FOLDER,
    UNTOLD,
    Lock,
    LockedArchive,
    LockedBuild,
    LockedCheckout,
    LockedLibrary,
    LockedWheel,
    Needed,
    Selection,
    ToInstall,
    Unbuilt,
    is_own_folder,
)
from rabbet.core.model.target import Target
from rabbet.errors import EnvironmentFailed, NotUnderstood
from rabbet.python.choosing.file_name import parse_wheel_name
from rabbet.python.choosing.serving import holds, may_not_build, refuse_unserved, without_wheel

__all__ = ["as_wheel", "libraries_for", "needed", "own_project", "serving_wheel"]


def needed(
    lock: Lock, target: Target, selection: Selection, declaration: Declaration
) -> tuple[ToInstall, ...]:
    """The libraries that this machine installs for a selection, each with the wheel that serves it best.

    Libraries without a wheel are built if the declaration allows it. The project itself is left out.
    Raises `EnvironmentFailed`, with what helps by the declaration, where the lock does not serve the target,
    or holds nothing for it that may be installed.
    """
    refuse_unserved(lock, target, declaration)
    found = libraries_for(lock, target, selection)
    return _Choice(lock, target, declaration).among(
        [library for library in found if not is_own_folder(library.tree)]
    )


def own_project(lock: Lock, target: Target, declaration: Declaration) -> Unbuilt | None:
    """The project itself, to be installed, mostly so that its modules are used where they lie (PEP 660).

    `None` where it says of itself no more than what it needs, or the lock was made when it did so. Raises as
    `needed` does.
    """
    build = lock.own_build
    if build is None or declaration.build_system is None:
        return None
    source = LockedCheckout(path=OWN_FOLDER, editable=build.editable)
    return Unbuilt(
        locked=LockedLibrary(
            name=build.name,
            version=declaration.version or UNTOLD,
            artifacts=(source,),
            dependencies=tuple(
                sorted({requirement.need.name for requirement in declaration.declared()} - {build.name})
            ),
        ),
        source=source,
        environment=_Choice(lock, target, declaration).environment(build),
        own=True,
        options=build.options,
    )


def as_wheel(item: ToInstall) -> ToInstall:
    """The same library, installed as a wheel in place of an editable form."""
    if isinstance(item, Needed) or not isinstance(item.source, LockedCheckout):
        return item
    return replace(item, source=replace(item.source, editable=False))


class _Choice:
    """The part of a lock for one target: the best wheel of each library, or its source."""

    def __init__(self, lock: Lock, target: Target, declaration: Declaration) -> None:
        self._lock = lock
        self._target = target
        self._declaration = declaration

    def among(self, found: Sequence[LockedLibrary], building: tuple[str, ...] = ()) -> tuple[ToInstall, ...]:
        """Each of these libraries as it is installed; they may be for `building` others."""
        _refuse_twins(found)
        for library in found:
            _check_python(library, self._target)
        unbuilt = [library for library in found if self._may_not_build(library)]
        if unbuilt:
            raise may_not_build(unbuilt)
        return tuple(self._to_install(library, building) for library in found)

    def _may_not_build(self, library: LockedLibrary) -> bool:
        """Whether a library would have to be built, and the declaration does not allow that."""
        if library.source is None or serving_wheel(library, self._target) is not None:
            return False
        local = isinstance(library.source, LockedCheckout)
        return library.name not in (self._declaration.local if local else self._declaration.build_from_source)

    def environment(self, build: LockedBuild, building: tuple[str, ...] = ()) -> tuple[ToInstall, ...]:
        """The libraries of a build environment."""
        counting = (library for library in build.libraries if _counts(library, self._target, Selection()))
        return self.among(tuple(counting), building)

    def _to_install(self, library: LockedLibrary, building: tuple[str, ...]) -> ToInstall:
        wheel = serving_wheel(library, self._target)
        if wheel is not None:
            return Needed(locked=library, artifact=wheel)
        source = library.source
        if source is None:
            raise without_wheel(library, self._lock, self._target, self._declaration)
        if library.name in building:
            raise EnvironmentFailed(
                f"{library.name} can't be built: that needs {library.name} itself",
                because=[" needs ".join([*building[building.index(library.name) :], library.name])],
                note="a release of it that has a wheel would do",
            )
        build = self._lock.build_of(library)
        if build is None:
            raise EnvironmentFailed(
                f"the lock does not say what the build of {library.name} needs", remedy="rabbet resolve"
            )
        return Unbuilt(
            locked=library,
            source=source,
            environment=self.environment(build, (*building, library.name)),
            options=build.options,
        )


def libraries_for(lock: Lock, target: Target, selection: Selection) -> tuple[LockedLibrary, ...]:
    """The libraries that a target which the lock serves needs for a selection."""
    return tuple(library for library in lock.libraries if _counts(library, target, selection))


def _counts(library: LockedLibrary, target: Target, selection: Selection) -> bool:
    """Whether the marker of an entry holds, if it has one."""
    return library.marker is None or holds(library.marker, target, selection)


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
            f"{library.name} {library.version} of the lock does not cover {target}",
            because=[f"it needs Python {told}"],
            remedy="rabbet resolve",
        )


def serving_wheel(library: LockedLibrary, target: Target) -> LockedWheel | LockedArchive | None:
    """The wheel of a locked library that serves a target best; `None` if none does."""
    ranked = []
    for wheel in sorted(library.wheels, key=lambda wheel: wheel.filename):
        parsed = parse_wheel_name(wheel.filename)
        ranks = [target.tags[tag] for tag in parsed.tags or () if tag in target.tags]
        if ranks:
            ranked.append((-min(ranks), parsed.build, wheel))
    return max(ranked, key=lambda entry: entry[:2])[2] if ranked else None
