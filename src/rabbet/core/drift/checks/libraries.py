"""Which libraries are there, in which versions, and made from which files."""

from collections.abc import Iterator

from rabbet.core.drift.expected import Expectation, is_locked_version, version_of
from rabbet.core.model.cause import Reason, SecondCopy
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory

__all__ = ["missing", "surplus", "unknown", "versions"]


def missing(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that are wanted and not there."""
    for needed in expected.needed:
        name = needed.locked.name
        if name not in inventory.libraries:
            was_there = name in inventory.put_there
            yield Finding(
                kind=Kind.MISSING,
                subject=Subject.library(name),
                locked=version_of(needed),
                weight=Weight.BREAKS,
                breaks=tuple(sorted(expected.dependents.get(name, ()))),
                cause=Reason.REMOVED if was_there else None,
                comes_with=expected.path_to(name),
                left_over=expected.has_other_lock(inventory) and not was_there,
            )


def surplus(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that nobody wants, and second copies of those that are expected."""
    extra = [(library, None) for name, library in inventory.libraries.items() if name not in expected.names]
    copies = [(copy, SecondCopy(installation=copy.installation)) for copy in inventory.twins]
    for installed, cause in [*extra, *copies]:
        yield Finding(
            kind=Kind.SURPLUS,
            subject=Subject.library(installed.name),
            installed=installed.version,
            weight=Weight.DIFFERS,
            cause=cause,
        )


def versions(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Libraries that are there in another version."""
    for item, installed in expected.pairs(inventory):
        if not is_locked_version(item, installed):
            yield Finding(
                kind=Kind.VERSION,
                subject=Subject.library(installed.name),
                locked=version_of(item),
                installed=installed.version,
                weight=Weight.DIFFERS,
                comes_with=expected.path_to(installed.name),
            )


def unknown(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Libraries that no longer say what they are and need."""
    for installed in (*inventory.libraries.values(), *inventory.twins):
        if installed.metadata is None and not installed.altered:
            yield Finding(
                kind=Kind.ALTERED,
                subject=Subject.library(installed.name),
                installed=installed.version,
                weight=Weight.BREAKS,
                breaks=(installed.name,),
                cause=Reason.NO_METADATA,
            )
