"""Checks of wheels and modules: the files that libraries were made from, and what Python would load."""

from collections.abc import Iterable, Iterator, Sequence

from packaging.utils import NormalizedName

from rabbet.core.drift.compare import Check
from rabbet.core.drift.expected import Expectation, VersionOnly, is_locked_version, version_of
from rabbet.core.model.cause import Reason
from rabbet.core.model.finding import ENVIRONMENT, Finding, Kind, Subject, Weight
from rabbet.core.model.inventory import Inventory
from rabbet.core.model.lock import Needed, ToInstall, Unbuilt
from rabbet.python.choosing.origin import other_file, other_origin
from rabbet.python.code.module_names import is_start_up

__all__ = ["PYTHON_CHECKS", "bound_to_minor"]

_FOR_ANY_MINOR = ("none", "abi3")  # ABI tags of files that serve several minor versions of Python


def origins(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:
    """The locked version, made from another file: of the same release, or one that is not locked.

    What is built here has to be built from the locked sources, as the lock says.
    """
    differing = other_origin if expected.origins_known else other_file
    for item, installed in expected.pairs(inventory):
        kind = differing(item, installed)
        whole = not (installed.altered or installed.unfinished)
        if whole and kind is not None and is_locked_version(item, installed):
            yield Finding(
                kind=kind,
                subject=Subject.library(installed.name),
                locked=version_of(item),
                installed=installed.version,
                weight=Weight.DIFFERS,
                cause=Reason.BUILT_OTHERWISE if isinstance(item, Unbuilt) and installed.build else None,
            )


def strays(expected: Expectation, inventory: Inventory) -> Iterator[Finding]:  # noqa: ARG001 - as all checks
    """Files that nobody recorded, where Python would load or start them."""
    for place in inventory.strays:
        hook = is_start_up(place)
        yield Finding(
            kind=Kind.SURPLUS,
            subject=ENVIRONMENT,
            weight=Weight.NOTE if inventory.without_record and not hook else Weight.DIFFERS,
            files=(place,),
            cause=Reason.START_UP if hook else Reason.UNRECORDED,
        )


PYTHON_CHECKS: Sequence[Check] = (origins, strays)


def bound_to_minor(needed: Iterable[ToInstall | VersionOnly]) -> tuple[NormalizedName, ...]:
    """The libraries whose compiled modules serve one minor version of Python alone, by PEP 425."""
    files = {
        library.locked.name: library.artifact.filename for library in needed if isinstance(library, Needed)
    }
    return tuple(name for name, file in sorted(files.items()) if _is_bound_to_minor(file))


def _is_bound_to_minor(filename: str) -> bool:
    parts = filename.split("-")
    return len(parts) > 2 and not set(parts[-2].split(".")).intersection(_FOR_ANY_MINOR)
