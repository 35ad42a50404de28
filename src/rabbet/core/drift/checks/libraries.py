"""Which libraries are there, in which versions, and made from which files."""

from collections.abc import Iterator

from rabbet.core.drift.expected import Expectation, is_locked_version, version_of
from rabbet.core.drift.origin import other_file, other_origin
from rabbet.core.model.cause import Reason, SecondCopy
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Unbuilt

__all__ = ["missing", "origins", "surplus", "unknown", "versions"]


def missing(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that are wanted and not there."""
    for one in expected.needed:
        name = one.locked.name
        if name not in inventory.libraries:
            was_there = name in inventory.put_there
            yield Finding(
                kind=Kind.MISSING,
                subject=Subject.library(name),
                locked=version_of(one),
                weight=Weight.BREAKS,
                breaks=tuple(sorted(expected.dependents.get(name, ()))),
                cause=Reason.REMOVED if was_there else None,
                comes_with=expected.path_to(name),
                left_over=expected.has_other_lock(inventory) and not was_there,
            )


def surplus(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that nobody wants, and second copies of those that are expected."""
    extra = [one for name, one in inventory.libraries.items() if name not in expected.names]
    for one in [*extra, *inventory.twins]:
        yield Finding(
            kind=Kind.SURPLUS,
            subject=Subject.library(one.name),
            installed=one.version,
            weight=Weight.DIFFERS,
            cause=SecondCopy(installation=one.installation) if one in inventory.twins else None,
        )


def versions(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that are there in another version."""
    for one, installed in expected.pairs(inventory):
        if not is_locked_version(one, installed):
            yield Finding(
                kind=Kind.VERSION,
                subject=Subject.library(installed.name),
                locked=version_of(one),
                installed=installed.version,
                weight=Weight.DIFFERS,
                comes_with=expected.path_to(installed.name),
            )


def origins(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """The locked version, made from another file: of the same release, or one that is not locked.

    What is built here has to be built from the locked sources, as the lock says.
    """
    differing = other_origin if expected.origins_known else other_file
    for one, installed in expected.pairs(inventory):
        kind = differing(one, installed)
        whole = not (installed.altered or installed.unfinished)
        if whole and kind is not None and is_locked_version(one, installed):
            yield Finding(
                kind=kind,
                subject=Subject.library(installed.name),
                locked=version_of(one),
                installed=installed.version,
                weight=Weight.DIFFERS,
                cause=Reason.BUILT_OTHERWISE if isinstance(one, Unbuilt) and installed.build else None,
            )


def unknown(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Libraries that no longer say what they are and need."""
    for one in (*inventory.libraries.values(), *inventory.twins):
        if one.metadata is None and not one.altered:
            yield Finding(
                kind=Kind.ALTERED,
                subject=Subject.library(one.name),
                installed=one.version,
                weight=Weight.BREAKS,
                breaks=(one.name,),
                cause=Reason.NO_METADATA,
            )
