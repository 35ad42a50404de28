"""Checks around an environment: its project's declaration, lock and files, and folders that shadow it."""

from collections.abc import Iterable, Iterator

from msgspec import Struct, field

from rabbet.core.drift.expected import Expectation
from rabbet.core.model.cause import Reason, ReasonWith, RuleBroken, Shadow
from rabbet.core.model.finding import ENVIRONMENT, SYSTEM, About, Finding, Kind, Subject, Weight
from rabbet.core.rules.breach import Breach

__all__ = [
    "Surroundings",
    "SystemLook",
    "broken_rules",
    "edited",
    "outdated",
    "rule_findings",
    "shadowed",
    "stale_exports",
    "stranger",
    "system_packages",
    "yanked",
]


class SystemLook(Struct, frozen=True, kw_only=True):
    """What this machine's system has of the packages that a project declares for its distribution.

    Those that are `lacking`, and what helps; or why that is `unknown`.
    """

    advice: str = ""
    lacking: tuple[str, ...] = ()
    unknown: str = ""


class Surroundings(Struct, frozen=True, kw_only=True):
    """The facts about an environment's surroundings that the checks judge.

    The declaration may have changed since the lock was made (`outdated`), entries of the lock may have been
    `edited` by hand, exported files be `stale`, and kernels for notebooks have lost their environments. An
    environment that was not `made_here` is a stranger's. Rules are `broken` by what is installed; why that
    can't be told, `rules_unknown` says.
    """

    outdated: bool = False
    edited: tuple[str, ...] = ()
    stale: tuple[str, ...] = ()
    lost_kernels: tuple[str, ...] = ()
    shadows: tuple[Shadow, ...] = ()
    made_here: bool = True
    system: SystemLook = field(default_factory=SystemLook)
    broken: tuple[Breach, ...] = ()
    rules_unknown: tuple[str, ...] = ()


def broken_rules(expected: Expectation, around: Surroundings) -> Iterator[Finding]:
    """Rules that what is installed breaks, and what keeps that from being told."""
    yield from rule_findings(expected, around.broken)
    for text in around.rules_unknown:
        subject, cause = Subject(About.PROJECT, expected.project), ReasonWith(Reason.RULES_UNKNOWN, text)
        yield Finding(kind=Kind.RULE, subject=subject, weight=Weight.DIFFERS, cause=cause)


def rule_findings(expected: Expectation, broken: Iterable[Breach]) -> Iterator[Finding]:
    """A finding for each broken rule; what is only noted is a note."""
    locked = {needed.locked.name: needed.locked.version for needed in expected.needed}
    for breach in broken:
        known = breach.vulnerability
        yield Finding(
            kind=Kind.RULE,
            subject=Subject.library(breach.name),
            weight=Weight.BREAKS if breach.refuses else Weight.NOTE,
            locked=locked.get(breach.name),
            installed=breach.version,
            cause=RuleBroken(
                rule=str(breach.rule),
                told=breach.told,
                id=known.id if known else "",
                published=known.published if known else "",
                mended=known.mended if known else None,
            ),
        )


def outdated(expected: Expectation, around: Surroundings) -> Iterator[Finding]:
    """The declaration changed since the lock was made."""
    if around.outdated:
        subject, cause = Subject(About.PROJECT, expected.project), Reason.DECLARATION_CHANGED
        yield Finding(kind=Kind.UNRESOLVED, subject=subject, weight=Weight.DIFFERS, cause=cause)


def edited(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Entries of the lock that were edited by hand."""
    for name in around.edited:
        subject, cause = Subject.library(name), Reason.EDITED_LOCK
        yield Finding(kind=Kind.UNRESOLVED, subject=subject, weight=Weight.NOTE, cause=cause)


def stale_exports(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Files that `export` made of another lock, and kernels whose environment is gone."""
    for names, cause in ((around.stale, Reason.EXPORTED), (around.lost_kernels, Reason.KERNEL_LOST)):
        for name in names:
            subject = Subject(About.FILE, name)
            yield Finding(kind=Kind.STALE, subject=subject, weight=Weight.NOTE, cause=cause)


def stranger(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """The environment was not made here."""
    if not around.made_here:
        cause = Reason.NOT_MADE_HERE
        yield Finding(kind=Kind.ALTERED, subject=ENVIRONMENT, weight=Weight.DIFFERS, cause=cause)


def yanked(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Locked releases that their source withdrew."""
    for needed in expected.needed:
        if needed.locked.yanked is not None:
            yield Finding(
                kind=Kind.VERSION,
                subject=Subject.library(needed.locked.name),
                locked=needed.locked.version,
                installed=needed.locked.version,
                weight=Weight.NOTE,
                cause=ReasonWith(Reason.YANKED, needed.locked.yanked),
            )


def system_packages(expected: Expectation, around: Surroundings) -> Iterator[Finding]:
    """Declared packages of the operating system that it has not installed, or that nobody can look for."""
    look = around.system
    for name in look.lacking:
        yield Finding(
            kind=Kind.SYSTEM,
            subject=Subject.system(name),
            weight=Weight.BREAKS,
            breaks=(expected.project,),
            cause=ReasonWith(Reason.NOT_ON_SYSTEM, look.advice),
        )
    if look.unknown:
        cause = ReasonWith(Reason.SYSTEM_UNKNOWN, look.unknown)
        yield Finding(kind=Kind.SYSTEM, subject=SYSTEM, weight=Weight.NOTE, cause=cause)


def shadowed(expected: Expectation, around: Surroundings) -> Iterator[Finding]:  # noqa: ARG001
    """Libraries whose modules Python would take from somewhere else."""
    for shadow in around.shadows:
        yield Finding(
            kind=Kind.ORIGIN,
            subject=Subject.library(shadow.library),
            locked=shadow.version,
            installed=shadow.version,
            weight=Weight.DIFFERS,
            cause=shadow,
        )
