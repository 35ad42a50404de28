"""What a team expects of its machines beyond the lock, and what is otherwise."""

from collections.abc import Iterable, Iterator, Mapping

from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.declaration.model import ExpectEntry
from rabbet.core.model.cause import Reason, ReasonWith
from rabbet.core.model.finding import About, Finding, Kind, Subject, Weight

__all__ = ["REVISION", "unexpected"]

REVISION = Subject(About.INVENTORY, "lock revision")
"""What is expected of how far a machine is behind."""


def unexpected(
    expect: ExpectEntry,
    installed: Iterable[tuple[NormalizedName, Version]],
    locked: Mapping[NormalizedName, Version],
    behind: int | None,
) -> Iterator[Finding]:
    """A finding for each expectation that a machine does not meet.

    What is `installed` may have a library twice. How many revisions it is `behind` may not be known: then
    that it is not too many is not known either.
    """
    if expect.behind is not None and (behind is None or behind > expect.behind):
        number = "an unknown number of" if behind is None else str(behind)
        told = f"{number} lock revisions behind, and at most {expect.behind} are expected"
        yield _finding(REVISION, told)
    for name, version in dict.fromkeys(installed):
        for need in expect.libraries:
            if need.name == name and not need.specifier.contains(version, prereleases=True):
                found = _finding(Subject.library(name), f"{name}{need.specifier} is expected")
                yield replace(found, installed=version, locked=locked.get(name))


def _finding(subject: Subject, told: str) -> Finding:
    cause = ReasonWith(Reason.NOT_EXPECTED, told)
    return Finding(kind=Kind.UNEXPECTED, subject=subject, weight=Weight.BREAKS, cause=cause)
