"""What is installed on one machine of the team, as it was recorded there."""

from collections.abc import Mapping

from msgspec import Struct, field
from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.model.inventory import Inventory

__all__ = ["MachineInventory"]


class MachineInventory(Struct, frozen=True, kw_only=True):
    """An inventory with the label of its machine, the time of recording (in seconds), and for what.

    The `platform` is one of Rabbet's names, such as `linux-x86_64`, and `runtimes` are the versions of other
    languages' ones; both are empty where nobody tells. Libraries may be installed `twice`, in further
    versions, as scans of whole systems have it. The `python` is `None` where none is told. So many libraries
    are `left_out`, as the declaration asks for.
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
