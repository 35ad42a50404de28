"""What surrounds an environment: its project's declaration, lock and files, and folders in front of it."""

from collections.abc import Iterator

from msgspec import Struct
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.drift.expected import Expectation
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Reason, Weight

__all__ = ["Shadow", "Surroundings", "edited", "outdated", "shadowed", "stale_exports", "stranger", "yanked"]


class Shadow(Struct, frozen=True, kw_only=True):
    """A module of an installed library that Python would take from another `file`.

    Such a file may be one of the `project`, which is in front where a program is started in its folder.
    """

    library: NormalizedName
    version: Version
    module: str
    file: str
    project: bool


class Surroundings(Struct, frozen=True, kw_only=True):
    """What is seen around an environment.

    The declaration may have changed since the lock was made (`outdated`), entries of the lock may have been
    `edited` by hand, and exported files be `stale`. One that was not `made_here` is a stranger's.
    """

    outdated: bool = False
    edited: tuple[str, ...] = ()
    stale: tuple[str, ...] = ()
    shadows: tuple[Shadow, ...] = ()
    made_here: bool = True


def outdated(expected: Expectation, around: Surroundings) -> Iterator[Finding]:
    """The declaration changed since the lock was made."""
    if around.outdated:
        reason = Reason.DECLARATION_CHANGED
        yield Finding(kind=Kind.UNRESOLVED, name=expected.project, weight=Weight.DIFFERS, reason=reason)


def edited(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Entries of the lock that were edited by hand."""
    for name in around.edited:
        yield Finding(kind=Kind.UNRESOLVED, name=name, weight=Weight.NOTE, reason=Reason.EDITED_LOCK)


def stale_exports(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Files that `export` made of another lock."""
    for name in around.stale:
        yield Finding(kind=Kind.STALE, name=name, weight=Weight.NOTE, reason=Reason.EXPORTED)


def stranger(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """The environment was not made here."""
    if not around.made_here:
        reason = Reason.NOT_MADE_HERE
        yield Finding(kind=Kind.ALTERED, name=ENVIRONMENT, weight=Weight.DIFFERS, reason=reason)


def yanked(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Locked releases that their source withdrew."""
    for one in expected.needed:
        if one.locked.yanked is not None:
            yield Finding(
                kind=Kind.VERSION,
                name=one.locked.name,
                locked=one.locked.version,
                installed=one.locked.version,
                weight=Weight.NOTE,
                reason=Reason.YANKED,
                told=one.locked.yanked,
            )


def shadowed(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Libraries whose modules Python would take from somewhere else."""
    for one in around.shadows:
        taken = f"takes {one.file}, which Python finds first"
        if one.project:
            taken = f"takes the project's {one.file} where a program is started in its folder"
        yield Finding(
            kind=Kind.ORIGIN,
            name=one.library,
            locked=one.version,
            installed=one.version,
            weight=Weight.DIFFERS,
            reason=Reason.SHADOWED,
            told=f"import {one.module} {taken}",
        )
