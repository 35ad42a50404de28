"""One machine's recorded installation, and the parts that are left out of it.

That something is left out is told, so that a machine is not taken for one that is as locked.
"""

from collections.abc import Collection, Mapping
from fnmatch import fnmatchcase

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.census.tags import Tags
from rabbet.core.model.inventory import Installed, Inventory

__all__ = ["LEFT_OUT", "MachineInventory", "is_left_out", "left_out"]


class MachineInventory(Struct, frozen=True, kw_only=True):
    """An inventory with the label of its machine, the time of recording (in seconds), and for what.

    The `platform` is one of Rabbet's names, such as `linux-x86_64`, and `runtimes` are the versions of other
    languages' ones; both are empty where nobody tells. Libraries may be installed `twice`, in further
    versions, as scans of whole systems have it. `python` is `None` when unknown. So many libraries
    are `left_out`, as the declaration asks for. The `tags` are what its sender says of it.
    """

    label: str
    recorded: int
    project: str
    platform: str
    python: Version | None
    inventory: Inventory
    runtimes: Mapping[str, str] = field(default_factory=dict)
    twice: tuple[tuple[NormalizedName, Version], ...] = ()
    left_out: int = 0
    tags: Tags = field(default_factory=dict)


LEFT_OUT = "(left out)"  # stands for the name of a file


def is_left_out(name: str, patterns: Collection[str]) -> bool:
    """Whether a library's name, a file's place, or its last part fits a pattern as shells have them."""
    last = name.rpartition("/")[2]
    return any(fnmatchcase(name, pattern) or fnmatchcase(last, pattern) for pattern in patterns)


def left_out(
    machine: MachineInventory, locked: Collection[NormalizedName], patterns: Collection[str]
) -> MachineInventory:
    """An inventory without what fits a pattern, and with the number of libraries that it lacks.

    `locked` libraries stay: readers of the inventory know the lock. Files lose their name only.
    """
    if not patterns:
        return machine
    inventory = machine.inventory
    hidden = {name for name in inventory.libraries if name not in locked and is_left_out(name, patterns)}

    def shown(files: Collection[str]) -> tuple[str, ...]:
        return tuple(dict.fromkeys(LEFT_OUT if is_left_out(file, patterns) else file for file in files))

    def without_names(library: Installed) -> Installed:
        needs = library.metadata.needs if library.metadata else ()
        told = tuple(need for need in needs if need.name in locked or not is_left_out(need.name, patterns))
        metadata = replace(library.metadata, needs=told) if library.metadata else None
        return replace(library, altered=shown(library.altered), gone=shown(library.gone), metadata=metadata)

    kept = {
        name: without_names(library) for name, library in inventory.libraries.items() if name not in hidden
    }
    return replace(
        machine,
        inventory=replace(inventory, libraries=kept, strays=shown(inventory.strays)),
        twice=tuple(pair for pair in machine.twice if pair[0] not in hidden),
        left_out=len(hidden),
    )
