"""Two states as this machine can install them, what differs between them, and any mixture of the two."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress

from msgspec import Struct
from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.culprit.consistency import PYTHON
from rabbet.core.culprit.mixture import Mixture, StateChange
from rabbet.core.declaration.model import Declaration, DeclaredRuntime
from rabbet.core.model.lock import Lock, LockedLibrary, ToInstall, Unbuilt, runtime_name
from rabbet.core.model.runtime import LinkedRuntime, PythonRuntime
from rabbet.core.needs.names import library_name
from rabbet.errors import NoLock, NotUnderstood, RabbetError, SourceFailed
from rabbet.proving.artifacts import Obtainable, obtainable
from rabbet.proving.combination import Combination, content_of, installable, linked_runtimes, own_build
from rabbet.python.choosing.targets import target_of
from rabbet.workspace.runtimes.pythons import chosen_runtime, pythons_of
from rabbet.workspace.session import Session
from rabbet.workspace.states.states import ComparedState

__all__ = ["Combination", "StateHere", "TwoStates", "two_states"]

_SHOWN = 5  # libraries in a message


class StateHere(Struct, frozen=True, kw_only=True):
    """A state as this machine installs it: its runtimes, and its libraries by name."""

    name: str
    declaration: Declaration
    python: PythonRuntime
    others: Mapping[NormalizedName, LinkedRuntime]
    libraries: Mapping[NormalizedName, ToInstall]


class TwoStates(Struct, frozen=True, kw_only=True):
    """The good state and the bad one, and what differs between them here.

    `under_other` are the libraries of each as they are under the Python of the other one, `lacking` those
    that can't be had for it. The project's `own` build comes with each Python; without one, its modules are
    led to. The `notes` tell what differs and can't be reproduced here.
    """

    good: StateHere
    bad: StateHere
    changes: Mapping[NormalizedName, StateChange]
    under_other: tuple[Mapping[NormalizedName, ToInstall], Mapping[NormalizedName, ToInstall]]
    lacking: tuple[frozenset[NormalizedName], frozenset[NormalizedName]]
    own: tuple[Unbuilt | None, Unbuilt | None]
    notes: tuple[str, ...]

    def combination(self, mixture: Mixture) -> Combination:
        """What a mixture is made of."""
        python = self.bad.python if PYTHON in mixture else self.good.python
        return Combination(python, self._libraries_of(mixture), self._others_of(mixture))

    def _others_of(self, mixture: Mixture) -> tuple[LinkedRuntime, ...]:
        """The runtimes of other languages, sorted by language."""
        names = sorted({*self.good.others, *self.bad.others})
        sides = ((self.bad if name in mixture else self.good).others.get(name) for name in names)
        return tuple(side for side in sides if side is not None)

    def _libraries_of(self, mixture: Mixture) -> tuple[ToInstall, ...]:
        """The installed libraries, the project itself last."""
        python = int(PYTHON in mixture)
        own = self.own[python]
        found = []
        for name in sorted({*self.good.libraries, *self.bad.libraries}):
            item = self.libraries_under(python, int(name in mixture)).get(name)
            if item is not None:
                found.append(item)
        return (*found, own) if own else tuple(found)

    def libraries_under(self, python: int, side: int) -> Mapping[NormalizedName, ToInstall]:
        """The libraries of one side under the Python of one, each 0 for the good state and 1 for the bad."""
        return (self.good, self.bad)[side].libraries if python == side else self.under_other[side]


def two_states(good: ComparedState, bad: ComparedState, session: Session) -> TwoStates:
    """Find for both states what this machine would install.

    Raises `NoRuntime`, `SourceFailed` for releases that can't be had any more, `EnvironmentFailed` for a lock
    that does not serve this machine.
    """
    reader = _Reader(good, bad, session)
    sides = (reader.here(good), reader.here(bad))
    pythons = tuple(side.python for side in sides)
    differ = pythons[0].executable != pythons[1].executable
    under_other = tuple(
        reader.under(state, side, python) if differ else (side.libraries, frozenset[NormalizedName]())
        for state, side, python in zip((good, bad), sides, reversed(pythons), strict=True)
    )
    return TwoStates(
        good=sides[0],
        bad=sides[1],
        changes=_changes(*sides, under_other[1][0] if differ else sides[1].libraries),
        under_other=(under_other[0][0], under_other[1][0]),
        lacking=(under_other[0][1], under_other[1][1]),
        own=(reader.own(sides[0]), reader.own(sides[1])),
        notes=tuple(_notes(good, bad, *sides)),
    )


class _Reader:
    """Finds what a state comes to on this machine."""

    def __init__(self, good: ComparedState, bad: ComparedState, session: Session) -> None:
        self._session = session
        self._declaration = session.declaration()
        self._pythons = pythons_of(session)
        self._locks = [state.lock for state in (good, bad) if not state.installed]
        self._present: Lock | None = None
        with suppress(NoLock, NotUnderstood):
            self._present = session.lock()
            self._locks.append(self._present)

    def here(self, state: ComparedState) -> StateHere:
        """The state with the runtimes that this machine has for it."""
        declaration = state.declaration or _unbound(self._declaration, state.lock)
        python = chosen_runtime(declaration, self._pythons, state.lock)
        lock = state.lock
        if state.installed:
            lock = self._obtainable(state, declaration, python)
        return StateHere(
            name=state.name,
            declaration=declaration,
            python=python,
            others=linked_runtimes(declaration, lock, python, self._session),
            libraries=installable(lock, declaration, python, self._session),
        )

    def under(
        self, state: ComparedState, side: StateHere, python: PythonRuntime
    ) -> tuple[Mapping[NormalizedName, ToInstall], frozenset[NormalizedName]]:
        """The libraries of a state under another Python, and the names of those that can't be had for it."""
        bare = [
            replace(library.locked, marker=None, requires_python=None) for library in side.libraries.values()
        ]
        found = self._lookup(bare, side.declaration, python)
        able: dict[NormalizedName, ToInstall] = {}
        lacking = set(found.lacking)
        for library in found.libraries:
            try:
                able.update(
                    installable(self._lock([library], state.lock), side.declaration, python, self._session)
                )
            except RabbetError:
                lacking.add(library.name)
        return able, frozenset(lacking)

    def own(self, side: StateHere) -> Unbuilt | None:
        """The project itself, where it has a build; its code is that of today in every mixture."""
        lock = self._present or (self._locks[0] if self._locks else None)
        return own_build(lock, self._declaration, side.python, self._session) if lock else None

    def _obtainable(self, state: ComparedState, declaration: Declaration, python: PythonRuntime) -> Lock:
        """A lock of what is installed somewhere. Raises `SourceFailed` where some of it can't be had."""
        own = library_name(self._declaration.name)
        libraries = [library for library in state.lock.libraries if library.name != own]
        found = self._lookup(libraries, declaration, python)
        if found.lacking:
            versions = {library.name: library.version for library in libraries}
            reasons = [f"{name} {versions[name]}: {why}" for name, why in sorted(found.lacking.items())]
            more = [f"and {len(reasons) - _SHOWN} more"] if len(reasons) > _SHOWN else []
            raise SourceFailed(
                f"what {state.name} holds can't all be had any more, so it can't be made again",
                because=[*reasons[:_SHOWN], *more],
                note="a state without them could be: the lock that it was made from, or a machine near it",
            )
        return self._lock(found.libraries, state.lock)

    def _lookup(
        self, libraries: Sequence[LockedLibrary], declaration: Declaration, python: PythonRuntime
    ) -> Obtainable:
        return obtainable(libraries, target_of(python), self._locks, declaration, self._session)

    def _lock(self, libraries: Iterable[LockedLibrary], lock: Lock) -> Lock:
        """A lock of these libraries for whatever target, with all builds that are known."""
        builds = tuple(build for known in self._locks for build in known.builds)
        return replace(lock, requires_python=None, environments=(), libraries=tuple(libraries), builds=builds)


def _unbound(declaration: Declaration, lock: Lock) -> Declaration:
    """Today's declaration for a state without its own: it narrows no runtime that the lock was made with."""
    runtimes = (
        DeclaredRuntime(language=runtime.language, versions=SpecifierSet()) for runtime in lock.runtimes
    )
    return replace(
        declaration,
        python=SpecifierSet(lock.requires_python or ""),
        pythons=(),
        runtimes=tuple(runtime for runtime in runtimes if runtime.language != "python"),
    )


def _changes(
    good: StateHere, bad: StateHere, bad_alike: Mapping[NormalizedName, ToInstall]
) -> dict[NormalizedName, StateChange]:
    """All that differs; `bad_alike` are the bad state's libraries under the good one's Python."""
    found: dict[NormalizedName, StateChange] = {}
    if good.python.executable != bad.python.executable:
        found[PYTHON] = StateChange(name=PYTHON, good=str(good.python.version), bad=str(bad.python.version))
    for name in sorted({*good.others, *bad.others}):
        before, after = good.others.get(name), bad.others.get(name)
        if (before and before.runtime) != (after and after.runtime):
            found[name] = StateChange(
                name=name,
                good=str(before.runtime.version) if before else "",
                bad=str(after.runtime.version) if after else "",
            )
    for name in sorted({*good.libraries, *bad.libraries}):
        versions = [
            str(side.libraries[name].locked.version) if name in side.libraries else "" for side in (good, bad)
        ]
        other_files = (
            name in bad_alike
            and name in good.libraries
            and (content_of(good.libraries[name]) != content_of(bad_alike[name]))
        )
        if versions[0] != versions[1] or other_files:
            found[name] = StateChange(name=name, good=versions[0], bad=versions[1])
    return found


def _notes(
    good: ComparedState, bad: ComparedState, good_here: StateHere, bad_here: StateHere
) -> Iterator[str]:
    """Runtimes that differ in the states, and not on this machine."""
    for language in sorted({runtime.language for state in (good, bad) for runtime in state.lock.runtimes}):
        told = [_told(state, language) for state in (good, bad)]
        name = runtime_name(language)
        here = [_version_here(side, name) for side in (good_here, bad_here)]
        if None not in told and told[0] != told[1] and here[0] == here[1] is not None:
            yield (
                f"{language} is {told[0]} in the good state and {told[1]} in the bad one; this machine has "
                f"{here[0]} for both, so that this change was not tried"
            )


def _told(state: ComparedState, language: str) -> Version | None:
    return next((runtime.version for runtime in state.lock.runtimes if runtime.language == language), None)


def _version_here(side: StateHere, name: NormalizedName) -> Version | None:
    if name == PYTHON:
        return side.python.version
    return side.others[name].runtime.version if name in side.others else None
