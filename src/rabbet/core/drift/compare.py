"""Lock × inventory → findings, the weightiest first."""

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Lock, Needed
from rabbet.core.model.solution import Part
from rabbet.core.model.target import Target

__all__ = ["Expected", "find_drift"]

_WEIGHTS = list(Weight)


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """What should be installed on this machine, and what the project itself requires.

    `needed` is the part of the lock that this machine needs.
    """

    project: str
    python: SpecifierSet
    requirements: tuple[Requirement, ...]
    lock: Lock
    needed: tuple[Needed, ...]
    target: Target


def find_drift(expected: Expected, inventory: Inventory) -> tuple[Finding, ...]:
    """Every difference between what is locked for this machine and what is installed."""
    unmet = _unmet(expected, inventory)
    findings = [
        *_runtime(expected, inventory),
        *_libraries(expected, inventory, unmet),
        *_surplus(expected, inventory, unmet),
        *_environment(expected, inventory),
    ]
    return tuple(sorted(findings, key=lambda one: (_WEIGHTS.index(one.weight), one.name, one.kind)))


def _runtime(expected: Expected, inventory: Inventory) -> Iterator[Finding]:
    locked = expected.lock.runtime
    if inventory.trouble:
        yield Finding(
            kind=Kind.RUNTIME,
            name="python",
            locked=str(locked.version) if locked else "",
            installed=str(inventory.python) if inventory.usable else "",
            weight=Weight.DIFFERS if inventory.usable else Weight.BREAKS,
            breaks=() if inventory.usable else (expected.project,),
            detail=inventory.trouble,
        )
        return
    if locked is None or (locked.version, locked.implementation) == (
        inventory.python,
        inventory.implementation,
    ):
        return
    fits = expected.python.contains(inventory.python, prereleases=True)
    same = locked.version.release[:2] == inventory.python.release[:2]
    serves = fits and same and locked.implementation == inventory.implementation
    yield Finding(
        kind=Kind.RUNTIME,
        name="python",
        locked=str(locked.version),
        installed=str(inventory.python),
        weight=Weight.NOTE if serves else Weight.BREAKS,
        breaks=() if serves else (expected.project,),
    )


def _libraries(
    expected: Expected, inventory: Inventory, unmet: Mapping[NormalizedName, tuple[str, ...]]
) -> Iterator[Finding]:
    for one in expected.needed:
        name, locked = one.locked.name, one.locked.version
        installed = inventory.libraries.get(name)
        if installed is None:
            breaks = sorted({*unmet.get(name, ()), *_dependents(expected, name)})
            yield Finding(
                kind=Kind.MISSING, name=name, locked=str(locked), weight=Weight.BREAKS, breaks=tuple(breaks)
            )
        elif installed.version != locked:
            breaks = list(unmet.get(name, ()))
            yield Finding(
                kind=Kind.VERSION,
                name=name,
                locked=str(locked),
                installed=str(installed.version),
                weight=Weight.BREAKS if breaks else Weight.DIFFERS,
                breaks=tuple(breaks),
            )
        elif installed.altered or installed.unfinished:
            yield Finding(
                kind=Kind.ALTERED,
                name=name,
                locked=str(locked),
                installed=str(installed.version),
                weight=Weight.BREAKS,
                breaks=(name,),
                detail=_files(installed),
                file=installed.altered[0] if installed.altered else "",
            )


def _surplus(
    expected: Expected, inventory: Inventory, unmet: Mapping[NormalizedName, tuple[str, ...]]
) -> Iterator[Finding]:
    wanted = {one.locked.name for one in expected.needed}
    extra = [one for name, one in inventory.libraries.items() if name not in wanted]
    for one in [*extra, *inventory.twins]:
        breaks = unmet.get(one.name, ())
        yield Finding(
            kind=Kind.SURPLUS,
            name=one.name,
            installed=str(one.version),
            weight=Weight.BREAKS if breaks else Weight.DIFFERS,
            breaks=breaks,
            detail="a second copy" if one in inventory.twins else "",
        )


def _environment(expected: Expected, inventory: Inventory) -> Iterator[Finding]:
    """What was altered of the environment itself, and what nobody put into it."""
    for damage in inventory.damage:
        yield Finding(
            kind=Kind.ALTERED,
            name="(environment)",
            weight=Weight.BREAKS,
            breaks=(expected.project,),
            detail=damage,
        )
    for place in inventory.strays:
        yield Finding(
            kind=Kind.SURPLUS,
            name="(environment)",
            weight=Weight.DIFFERS,
            detail="a file that nobody recorded",
            file=place,
        )


def _files(installed: Installed) -> str:
    if installed.unfinished:
        return "a run that was cut short was changing it"
    first, more = installed.altered[0], len(installed.altered) - 1
    return f"{first} and {more} more" if more else first


def _dependents(expected: Expected, name: NormalizedName) -> Iterator[str]:
    """Who needs a library by the lock."""
    for one in expected.needed:
        if name in one.locked.dependencies:
            yield one.locked.name


def _unmet(expected: Expected, inventory: Inventory) -> Mapping[NormalizedName, tuple[str, ...]]:
    """For each library, who requires a version of it that is not there."""
    found: defaultdict[NormalizedName, set[str]] = defaultdict(set)
    for requirer, need in _needs(expected, inventory.libraries):
        name = canonicalize_name(need.name)
        installed = inventory.libraries.get(name)
        if installed is None or not need.specifier.contains(installed.version, prereleases=True):
            found[name].add(requirer)
    return {name: tuple(sorted(requirers)) for name, requirers in found.items()}


def _needs(
    expected: Expected, libraries: Mapping[NormalizedName, Installed]
) -> Iterator[tuple[str, Requirement]]:
    """All requirements that count here: the project's, and those of everything installed with its extras."""
    waiting: list[tuple[str, Requirement]] = [
        (expected.project, need) for need in expected.requirements if expected.target.admits(need.marker)
    ]
    parts: set[Part] = {(name, "") for name in libraries}
    waiting += [(name, need) for name in libraries for need in _active(expected, libraries[name], "")]
    while waiting:
        requirer, need = waiting.pop()
        yield requirer, need
        name = canonicalize_name(need.name)
        for extra in need.extras:
            part = (name, canonicalize_name(extra))
            if part not in parts and name in libraries:
                parts.add(part)
                waiting += [(name, inner) for inner in _active(expected, libraries[name], part[1])]


def _active(expected: Expected, installed: Installed, extra: str) -> Sequence[Requirement]:
    needs: Iterable[Requirement] = installed.metadata.requirements if installed.metadata else ()
    return [need for need in needs if expected.target.admits(need.marker, extra)]
