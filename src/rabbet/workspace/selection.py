"""Which groups and extras an environment installs: the command's choice, else the last one."""

from collections.abc import Collection, Sequence

from rabbet.core.declaration.model import Declaration
from rabbet.core.model.lock import Lock, Selection
from rabbet.core.model.options import RecreateOptions
from rabbet.core.near_names import near_names
from rabbet.core.needs.names import library_name
from rabbet.errors import WrongUsage
from rabbet.python.environment.place.install_state import InstallState

__all__ = ["selected"]


def selected(
    lock: Lock, install_state: InstallState | None, options: RecreateOptions, declaration: Declaration
) -> Selection:
    """The groups and extras that count; of a new environment, and without a choice, all of them.

    Raises `WrongUsage` for one that the lock does not have.
    """
    everything = lock.everything
    if options.groups is not None or options.extras is not None:
        return Selection(
            _known("group", options.groups or (), everything.groups, declaration.groups),
            _known("extra", options.extras or (), everything.extras, declaration.extras),
        )
    if (
        install_state is None
        or install_state.groups is None
        or install_state.extras is None
        or options.everything
    ):
        return everything
    return Selection(
        everything.groups.intersection(install_state.groups),
        everything.extras.intersection(install_state.extras),
    )


def _known(
    kind: str, names: Sequence[str], known: frozenset[str], declared: Collection[str]
) -> frozenset[str]:
    wanted = frozenset(library_name(name) for name in names)
    for name in sorted(wanted - known):
        near = near_names(name, known)
        raise WrongUsage(
            f"the lock has no {kind} '{name}'",
            because=[f"it has: {', '.join(sorted(known)) or 'none'}"],
            note="it was declared since the lock was made" if name in declared else "",
            meant=(name, near[0]) if near and name not in declared else None,
            remedy="rabbet resolve" if name in declared else "",
        )
    return wanted
