"""The runtimes of other languages that a machine of the team has, against those of the lock."""

from collections.abc import Iterable, Iterator, Mapping

from packaging.specifiers import SpecifierSet

from rabbet.core.declaration.model import DeclaredRuntime
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.language import version_of
from rabbet.core.model.lock import LockedRuntime

__all__ = ["runtime_findings"]


def runtime_findings(
    locked: Iterable[LockedRuntime],
    declared: Iterable[DeclaredRuntime],
    told: Mapping[str, str],
    *,
    complete: bool,
) -> Iterator[Finding]:
    """What differs from the locked versions; an inventory that is `complete` tells all that are there.

    Another version that the declaration allows is worth a note. Python is compared elsewhere. Where nobody
    tells of a language, nothing is known of it.
    """
    allowed = {one.language: one.versions for one in declared}
    for one in locked:
        if one.language == "python":
            continue
        installed = version_of(told.get(one.language, ""))
        if installed is None and not complete:
            continue
        if installed != one.version:
            fits = installed is not None and installed in allowed.get(one.language, SpecifierSet())
            weight = Weight.NOTE if fits else Weight.DIFFERS if installed else Weight.BREAKS
            yield Finding(
                kind=Kind.RUNTIME,
                subject=Subject.runtime(one.language),
                weight=weight,
                locked=one.version,
                installed=installed,
            )
