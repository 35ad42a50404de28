"""Expected × installed → each difference once; findings and the plan follow from these.

Each check is a function that finds differences of its own kind; a new kind is a new check in a list here.
"""

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from typing import TypeAlias

from msgspec.structs import replace
from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import allows_minor
from rabbet.core.drift.checks import files, libraries, project, runtimes
from rabbet.core.drift.checks.environment import environment, stale
from rabbet.core.drift.checks.project import Surroundings
from rabbet.core.drift.expected import Expectation
from rabbet.core.model.cause import ByHand, SecondCopy
from rabbet.core.model.finding import PYTHON, About, Finding, Kind, Subject, Unmet, Weight
from rabbet.core.model.inventory import Installed, Inventory
from rabbet.core.needs.names import library_name
from rabbet.core.needs.need import Need, Part
from rabbet.core.needs.walk import walk

__all__ = ["Check", "compare"]

_WEIGHTS = list(Weight)
_WHOLE_VERSION = 3  # numbers: with the patch
_CAUSED = (Kind.SURPLUS, Kind.VERSION, Kind.ORIGIN, Kind.BUILD)  # what somebody has installed

Check: TypeAlias = Callable[[Expectation, Inventory], Iterable[Finding]]
"""Finds differences of one kind."""

CHECKS: Sequence[Check] = (
    runtimes.runtime,
    runtimes.other_runtimes,
    libraries.missing,
    libraries.surplus,
    libraries.versions,
    files.files,
    environment,
    libraries.unknown,
)
AROUND: Sequence[Callable[[Expectation, Surroundings], Iterable[Finding]]] = (
    project.stranger,
    project.edited,
    project.yanked,
    project.shadowed,
    project.stale_exports,
    project.system_packages,
    project.outdated,
    project.broken_rules,
)


def compare(
    expected: Expectation,
    inventory: Inventory,
    around: Surroundings | None = None,
    *,
    of_language: Sequence[Check] = (),
) -> tuple[Finding, ...]:
    """Every difference between what is expected and what is installed, the weightiest first.

    What is seen `around` an environment counts where it is given. The libraries' language has checks of its
    own (`of_language`).
    """
    unmet = tuple(_unmet(expected, inventory))
    found = [finding for check in (*CHECKS, *of_language) for finding in check(expected, inventory)]
    found = [_with_requirements(finding, unmet) for finding in found]
    moved = {finding.name for finding in found if finding.kind is Kind.VERSION}
    needed_by, other_lock = _needed_by(expected, inventory, moved), expected.has_other_lock(inventory)
    found = [_with_cause(finding, inventory, needed_by, other_lock=other_lock) for finding in found]
    found += stale(expected, inventory, [finding.name for finding in found if finding.left_over])
    if not expected.is_installed:
        found += _untold(unmet, {finding.subject for finding in found})
    if around is not None:
        found += [finding for check in AROUND for finding in check(expected, around)]
    return tuple(
        sorted(found, key=lambda finding: (_WEIGHTS.index(finding.weight), finding.name, finding.kind))
    )


def _with_requirements(finding: Finding, unmet: Iterable[Unmet]) -> Finding:
    """Add to a finding who is broken by it, and its own unmet requirements."""
    if finding.kind not in (Kind.MISSING, Kind.VERSION, Kind.SURPLUS) or finding.files:
        return finding
    asking = {need.requirer for need in unmet if need.of == finding.subject}
    own = tuple(need for need in unmet if need.requirer == finding.name)
    breaks = {*finding.breaks, *asking, *([finding.name] if own else [])}
    weight = Weight.BREAKS if breaks else finding.weight
    return replace(finding, weight=weight, breaks=tuple(sorted(breaks)), unmet=own)


def _with_cause(
    finding: Finding, inventory: Inventory, needed_by: Mapping[str, set[str]], *, other_lock: bool
) -> Finding:
    """Add to a finding about something that is installed how that came in, and who needs it.

    What Rabbet itself put there is left over from another lock, if the environment was made from one.
    """
    installed = inventory.libraries.get(NormalizedName(finding.name))
    if finding.subject.about is not About.LIBRARY or installed is None or finding.kind not in _CAUSED:
        return finding
    if isinstance(finding.cause, SecondCopy):
        return finding
    if installed.installation is None:
        return replace(finding, left_over=other_lock)
    who = needed_by.get(finding.name, set()) - {finding.name}
    by_hand = ByHand(
        installation=installed.installation, needed_by=tuple(sorted(who)), start_up=installed.start_up
    )
    return replace(finding, cause=by_hand)


def _needed_by(expected: Expectation, inventory: Inventory, moved: Collection[str]) -> Mapping[str, set[str]]:
    """Who brought each library: those that are not locked, or are there in another version, count.

    What is as locked brought nothing.
    """
    found: defaultdict[str, set[str]] = defaultdict(set)
    for other in inventory.libraries.values():
        if other.metadata is not None and (other.name not in expected.names or other.name in moved):
            for need in other.metadata.needs:
                if expected.target.admits(need.marker):
                    found[need.name].add(other.name)
    return found


def _untold(unmet: Iterable[Unmet], told: Collection[Subject]) -> Iterator[Finding]:
    """Findings for unmet requirements that no other finding covers: the lock itself does not meet them."""
    for need in unmet:
        requirer = Subject.library(need.requirer)
        if need.of == PYTHON and requirer not in told:
            yield Finding(
                kind=Kind.VERSION,
                subject=requirer,
                weight=Weight.BREAKS,
                breaks=(need.requirer,),
                unmet=(need,),
            )
        elif need.of not in told and need.of != PYTHON and requirer not in told:
            yield Finding(
                kind=Kind.VERSION if need.installed else Kind.MISSING,
                subject=need.of,
                installed=need.installed,
                weight=Weight.BREAKS,
                breaks=(need.requirer,),
                unmet=(need,),
            )


def _unmet(expected: Expectation, inventory: Inventory) -> Iterator[Unmet]:
    """All requirements of what is installed, and of the project, that are not met."""
    for requirer, need in _needs(expected, inventory.libraries):
        installed = inventory.libraries.get(need.name)
        if installed is None or not need.specifier.contains(installed.version, prereleases=True):
            version = installed.version if installed else None
            yield Unmet(requirer=requirer, need=need, installed=version, of=Subject.library(need.name))
    for library in inventory.libraries.values():
        if library.metadata is not None and not _serves(library.metadata.requires_python, inventory.python):
            need = Need(library_name(PYTHON.name), library.metadata.requires_python)
            yield Unmet(requirer=library.name, need=need, installed=inventory.python, of=PYTHON)


def _serves(python: SpecifierSet, installed: Version) -> bool:
    """Whether a library is for a Python (core metadata, Requires-Python), whose patch may be unknown."""
    if len(installed.release) < _WHOLE_VERSION:
        return allows_minor(python, str(installed))
    return python.contains(installed.base_version)  # of one that is not out yet, as if it were


def _needs(
    expected: Expectation, libraries: Mapping[NormalizedName, Installed]
) -> Iterator[tuple[str, Need]]:
    """All requirements that count here: the project's, and those of everything installed with its extras."""

    def needs_of(part: Part) -> Iterator[Need]:
        name, extra = part
        metadata = libraries[name].metadata if name in libraries else None
        for need in metadata.needs if metadata else ():
            if expected.target.admits(need.marker, extra):
                yield need

    own = ((None, need) for need in expected.needs if expected.target.admits(need.marker))
    for requirer, need in walk(own, needs_of, ((name, "") for name in libraries)):
        yield (expected.project if requirer is None else requirer[0]), need
