"""The interpreter of an environment, and runtimes of other languages, here and on a machine of the team."""

from collections.abc import Iterable, Iterator, Mapping

from packaging.specifiers import SpecifierSet

from rabbet.core.declaration.model import DeclaredRuntime
from rabbet.core.drift.expected import Expectation
from rabbet.core.model.cause import Cause, Reason, ReasonWith
from rabbet.core.model.finding import PYTHON, Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.language import version_of
from rabbet.core.model.lock import LockedRuntime

__all__ = ["other_runtimes", "runtime", "runtime_findings"]


def runtime(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """An interpreter that is gone, was changed, no longer serves, or is another one than would be taken.

    That another machine made the lock with another version is worth a note, where the lock serves this one
    too.
    """
    locked = expected.runtime.version if expected.runtime else None
    there = inventory.python
    if inventory.trouble:
        yield Finding(
            kind=Kind.RUNTIME,
            subject=PYTHON,
            locked=locked,
            installed=there if inventory.is_usable else None,
            weight=Weight.DIFFERS if inventory.is_usable else Weight.BREAKS,
            breaks=() if inventory.is_usable else (expected.project,),
            cause=inventory.trouble,
        )
        return
    same = there.release[:2] == expected.target.python.release[:2]
    alike = inventory.implementation == expected.target.markers["implementation_name"]
    allowed = alike and expected.python.contains(there, prereleases=True)
    breaks: tuple[str, ...] = () if allowed else (expected.project,)
    breaks += () if same else expected.bound_to_minor
    other = inventory.made_with and expected.chosen not in (None, (there, inventory.made_with))
    differs = other or not same
    noted = locked is not None and locked != there
    if noted or differs or breaks:
        yield Finding(
            kind=Kind.RUNTIME,
            subject=PYTHON,
            locked=locked,
            installed=there,
            weight=Weight.BREAKS if breaks else Weight.DIFFERS if differs else Weight.NOTE,
            breaks=breaks,
            cause=ReasonWith(Reason.MADE_WITH, inventory.made_with) if other else None,
        )


def other_runtimes(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Runtimes of other languages that are not on this machine, or are other ones than would be taken.

    That the version is another one than was locked is worth a note, for the declaration allows it.
    """
    for other in expected.others if expected.origins_known else ():
        chosen, linked = other.chosen, inventory.runtimes.get(other.language)
        cause: Cause | None = None
        if chosen is None:
            cause = Reason.OBTAINABLE if other.obtainable else Reason.NONE_FITS
        elif linked != chosen.executable:
            cause = ReasonWith(Reason.OTHER_LINKED, linked) if linked else Reason.NOT_LINKED
        elif chosen.version == other.locked:
            continue
        yield Finding(
            kind=Kind.RUNTIME,
            subject=Subject.runtime(other.language),
            locked=other.locked,
            installed=chosen.version if chosen else None,
            weight=Weight.BREAKS if chosen is None else Weight.DIFFERS if cause else Weight.NOTE,
            breaks=() if chosen else (expected.project,),
            cause=cause,
        )
    for language in sorted({*inventory.runtimes} - {other.language for other in expected.others}):
        subject, cause = Subject.runtime(language), Reason.NOT_DECLARED
        yield Finding(kind=Kind.RUNTIME, subject=subject, weight=Weight.DIFFERS, cause=cause)


def runtime_findings(
    locked: Iterable[LockedRuntime],
    declared: Iterable[DeclaredRuntime],
    told: Mapping[str, str],
    *,
    complete: bool,
) -> Iterator[Finding]:
    """Findings on runtimes other than the locked ones; a `complete` inventory lists every runtime present.

    Another version that the declaration allows is worth a note. Python is compared elsewhere. Where nobody
    tells of a language, nothing is known of it.
    """
    allowed = {runtime.language: runtime.versions for runtime in declared}
    for library in locked:
        if library.language == "python":
            continue
        installed = version_of(told.get(library.language, ""))
        if installed is None and not complete:
            continue
        if installed != library.version:
            fits = installed is not None and installed in allowed.get(library.language, SpecifierSet())
            weight = Weight.NOTE if fits else Weight.DIFFERS if installed else Weight.BREAKS
            yield Finding(
                kind=Kind.RUNTIME,
                subject=Subject.runtime(library.language),
                weight=weight,
                locked=library.version,
                installed=installed,
            )
