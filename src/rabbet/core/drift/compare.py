"""Lock × inventory → findings, the weightiest first."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from packaging.requirements import Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName, canonicalize_name

from rabbet.core.model.finding import Finding, Kind, Weight
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.model.lock import Lock, Needed
from rabbet.core.model.solution import Part
from rabbet.core.model.target import Target
from rabbet.core.wording import requirement_text

__all__ = ["Expected", "find_drift"]

_WEIGHTS = list(Weight)


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """What should be installed on this machine, and what the project itself requires.

    `needed` is the part of the lock that this machine needs. Where nobody noted from which files an
    environment was made, their `origins_known` is false.
    """

    project: str
    python: SpecifierSet
    requirements: tuple[Requirement, ...]
    lock: Lock
    needed: tuple[Needed, ...]
    target: Target
    origins_known: bool = True


def find_drift(expected: Expected, inventory: Inventory) -> tuple[Finding, ...]:
    """Every difference between what is locked for this machine and what is installed."""
    unmet = list(_unmet(expected, inventory))
    about: defaultdict[NormalizedName, set[str]] = defaultdict(set)
    for one in unmet:
        about[one.name].add(one.requirer)
    breaks = {name: tuple(sorted(requirers)) for name, requirers in about.items()}
    findings = [
        *_runtime(expected, inventory),
        *_libraries(expected, inventory, breaks),
        *_surplus(expected, inventory, breaks),
        *_environment(expected, inventory),
    ]
    told = [_with_own_needs(finding, unmet) for finding in findings]
    told += _untold(unmet, {finding.name for finding in findings})
    return tuple(sorted(told, key=lambda one: (_WEIGHTS.index(one.weight), one.name, one.kind)))


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
            yield from _files(installed, str(locked))
        elif expected.origins_known and installed.wheel_sha256 != one.wheel.sha256:
            yield _another_file(one, installed)


def _files(installed: Installed, locked: str) -> Iterator[Finding]:
    """What became of a library's files: some are gone, some are altered."""
    altered = tuple(file for file in installed.altered if file not in installed.gone)
    for kind, files in ((Kind.MISSING, installed.gone), (Kind.ALTERED, altered)):
        if files or (kind is Kind.ALTERED and installed.unfinished):
            yield Finding(
                kind=kind,
                name=installed.name,
                locked=locked,
                installed=str(installed.version),
                weight=Weight.BREAKS,
                breaks=(installed.name,),
                detail=_some(files) if files else "a run that was cut short was changing it",
                file=files[0] if files else "",
            )


def _another_file(one: Needed, installed: Installed) -> Finding:
    """The locked version, made from another file: of the same release, or one that is not locked."""
    same = installed.wheel_sha256 in {wheel.sha256 for wheel in one.locked.wheels}
    return Finding(
        kind=Kind.BUILD if same else Kind.ORIGIN,
        name=installed.name,
        locked=str(one.locked.version),
        installed=str(installed.version),
        weight=Weight.DIFFERS,
        detail="made from another file of this release" if same else "made from a file that is not locked",
    )


def _some(files: Sequence[str]) -> str:
    return f"{files[0]} and {len(files) - 1} more" if len(files) > 1 else files[0]


def _with_own_needs(finding: Finding, unmet: Iterable["_Unmet"]) -> Finding:
    """A finding of another release than the locked one, with what it needs and does not find."""
    if finding.kind not in (Kind.VERSION, Kind.SURPLUS):
        return finding
    own = [one for one in unmet if one.requirer == finding.name]
    if not own:
        return finding
    needs = ", ".join(one.text for one in own)
    detail = f"{finding.detail}; needs {needs}" if finding.detail else f"needs {needs}"
    breaks = tuple(sorted({*finding.breaks, finding.name}))
    return replace(finding, weight=Weight.BREAKS, breaks=breaks, detail=detail)


def _untold(unmet: Iterable["_Unmet"], told: Collection[str]) -> Iterator[Finding]:
    """Requirements that are not met, of which no other finding tells: what was locked does not meet them."""
    for one in unmet:
        if one.name not in told and one.requirer not in told:
            yield Finding(
                kind=Kind.VERSION if one.installed else Kind.MISSING,
                name=one.name,
                installed=one.installed,
                weight=Weight.BREAKS,
                breaks=(one.requirer,),
                detail=f"{one.requirer} needs {one.text}",
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


def _dependents(expected: Expected, name: NormalizedName) -> Iterator[str]:
    """Who needs a library by the lock."""
    for one in expected.needed:
        if name in one.locked.dependencies:
            yield one.locked.name


@dataclass(frozen=True, slots=True, kw_only=True)
class _Unmet:
    """A requirement on a library that no installed version meets."""

    requirer: str
    name: NormalizedName
    text: str
    installed: str


def _unmet(expected: Expected, inventory: Inventory) -> Iterator[_Unmet]:
    """All requirements of what is installed, and of the project, that are not met."""
    for requirer, need in _needs(expected, inventory.libraries):
        name = canonicalize_name(need.name)
        installed = inventory.libraries.get(name)
        if installed is not None and need.specifier.contains(installed.version, prereleases=True):
            continue
        there = f"installed is {installed.version}" if installed else "which is not there"
        yield _Unmet(
            requirer=requirer,
            name=name,
            text=f"{requirement_text(need, marker=False)}, {there}",
            installed=str(installed.version) if installed else "",
        )


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
