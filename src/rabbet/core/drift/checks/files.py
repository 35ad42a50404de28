"""The files of libraries."""

from collections.abc import Iterator

from rabbet.core.drift.expected import Expectation, is_locked_version, version_of
from rabbet.core.model.cause import Reason
from rabbet.core.model.finding import Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory

__all__ = ["files"]


def files(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """Files of a library that are missing or altered."""
    for item, installed in expected.pairs(inventory):
        if not is_locked_version(item, installed):
            continue
        altered = tuple(file for file in installed.altered if file not in installed.gone)
        for kind, files in ((Kind.MISSING, installed.gone), (Kind.ALTERED, altered)):
            unfinished = kind is Kind.ALTERED and installed.unfinished
            loose = kind is Kind.ALTERED and bool(files) and set(files) <= set(installed.loose)
            if files or unfinished:
                yield Finding(
                    kind=kind,
                    subject=Subject.library(installed.name),
                    locked=version_of(item),
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
