"""The files of libraries, and those of the environment itself."""

from collections.abc import Iterator

from rabbet.core.drift.expected import Expectation, is_locked_version, version_of
from rabbet.core.drift.module_names import is_start_up
from rabbet.core.model.cause import Reason, Unchecked
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory

__all__ = ["environment", "files"]


def files(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """What became of a library's files: some are gone, some are altered."""
    for one, installed in expected.pairs(inventory):
        if not is_locked_version(one, installed):
            continue
        altered = tuple(file for file in installed.altered if file not in installed.gone)
        for kind, files in ((Kind.MISSING, installed.gone), (Kind.ALTERED, altered)):
            unfinished = kind is Kind.ALTERED and installed.unfinished
            loose = kind is Kind.ALTERED and bool(files) and set(files) <= set(installed.loose)
            if files or unfinished:
                yield Finding(
                    kind=kind,
                    subject=Subject.library(installed.name),
                    locked=version_of(one),
                    installed=installed.version,
                    weight=Weight.BREAKS,
                    breaks=(installed.name,),
                    files=files,
                    cause=Reason.UNFINISHED
                    if unfinished and not files
                    else Reason.PERMISSIONS
                    if loose
                    else None,
                )


def environment(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """What was altered of the environment itself, and what nobody put into it."""
    for damage in inventory.damage:
        yield Finding(
            kind=Kind.ALTERED,
            subject=ENVIRONMENT,
            weight=Weight.BREAKS,
            breaks=(expected.project,),
            cause=damage,
        )
    everybody = (*inventory.libraries.values(), *inventory.twins)
    without = tuple(sorted({one.name for one in everybody if not one.recorded}))
    for place in inventory.strays:
        hook = is_start_up(place)
        yield Finding(
            kind=Kind.SURPLUS,
            subject=ENVIRONMENT,
            weight=Weight.NOTE if without and not hook else Weight.DIFFERS,
            files=(place,),
            cause=Reason.START_UP if hook else Reason.UNRECORDED,
        )
    unchecked = (
        (without, Weight.NOTE, Reason.NO_RECORD),
        (inventory.unvouched, Weight.DIFFERS, Reason.COMPILED_LATER),
    )
    for names, weight, reason in unchecked:
        if names:
            cause = Unchecked(reason=reason, libraries=names)
            yield Finding(kind=Kind.ALTERED, subject=ENVIRONMENT, weight=weight, cause=cause)
