"""Two states as the search needs them: what their libraries require, as their wheels say."""

from collections.abc import Callable
from contextlib import suppress

from packaging.specifiers import SpecifierSet
from packaging.utils import NormalizedName

from rabbet.core.culprit.consistency import Side
from rabbet.core.declaration.corrections import corrected
from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Needed, ToInstall
from rabbet.core.model.release import Metadata
from rabbet.core.needs.need import Need
from rabbet.proving.two_states import TwoStates
from rabbet.python.choosing.targets import target_of
from rabbet.python.formats.metadata import MetadataBroken, parse_metadata, whole
from rabbet.workspace.machine import Machine

__all__ = ["WheelOf", "sides_of"]

WheelOf = Callable[[NormalizedName, int], Needed | None]
"""The wheel that was built of a library of the good state (0) or of the bad one (1), where one was."""


def sides_of(two: TwoStates, machine: Machine, wheel_of: WheelOf) -> tuple[Side, Side]:
    """The good state and the bad one, each with what can't be had for the other one's Python."""
    return _side(two, 0, machine, wheel_of), _side(two, 1, machine, wheel_of)


def _side(two: TwoStates, number: int, machine: Machine, wheel_of: WheelOf) -> Side:
    state, other = (two.good, two.bad)[number], (two.bad, two.good)[number]
    target = target_of(state.python)
    extras: dict[NormalizedName, frozenset[NormalizedName]] = {}
    for requirement in state.declaration.declared():
        if target.admits(requirement.need.marker):
            extras[requirement.need.name] = (
                extras.get(requirement.need.name, frozenset()) | requirement.need.extras
            )
    return Side(
        target=target,
        libraries={
            name: _metadata(
                item,
                item if isinstance(item, Needed) else wheel_of(name, number),
                state.declaration,
                machine,
            )
            for name, item in state.libraries.items()
        },
        extras=extras,
        lacking=frozenset((name, other.libraries[name].locked.version) for name in two.lacking[1 - number]),
    )


def _metadata(item: ToInstall, wheel: Needed | None, declaration: Declaration, machine: Machine) -> Metadata:
    """A library's requirements by its wheel, else by the lock if the store has lost it."""
    content = machine.metadata.recall(wheel.artifact.sha256) if wheel else None
    if content is not None:
        with suppress(MetadataBroken):
            return whole(corrected(parse_metadata(content), declaration))
    return Metadata(
        name=item.locked.name,
        version=item.locked.version,
        requires_python=SpecifierSet(),
        needs=tuple(Need(name) for name in item.locked.dependencies),
        extras=frozenset(),
    )
