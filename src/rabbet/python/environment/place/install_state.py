"""The state file inside an environment: its interpreter, wheels and chosen groups."""

from pathlib import Path

import msgspec

from rabbet.core.limits import MOST_NOTES, UNREADABLE
from rabbet.disk.regular_file import read_regular
from rabbet.store.environments import Environments

__all__ = ["STATE_FILE", "InstallState", "Origin", "install_state_content", "own_install_state"]

STATE_FILE = "rabbet.json"
_FORMAT = 2  # 1: without the environment's own parts. 2: with them


class Origin(msgspec.Struct, frozen=True):
    """Where an installed library came from: the hashes of its wheel, and of the `RECORD` that was written.

    Of one that was built on this machine, `build` is the digest of what its build followed from. It counts
    for the library in the `.dist-info` folder `info` alone (empty in older notes): another version of the
    same name is somebody else's.
    """

    wheel: str
    record: str
    build: str = ""
    info: str = ""


class InstallState(msgspec.Struct, frozen=True):
    """The interpreter that the environment was made for, and each library's origin by name.

    `own` are the environment's own files and links by their places: each file's sha256, each link's target.
    `runtimes` are the main programs of other languages than Python, by language. `groups` and `extras` are
    those that were chosen, `None` for all. The `project` itself may have been left out. It and checkouts may
    have been installed as wheels, and not in their `editable` form. `lock` is the stamp of the lock that the
    environment was made from.
    """

    executable: str
    libraries: dict[str, Origin]
    own: dict[str, str]
    groups: list[str] | None = None
    extras: list[str] | None = None
    runtimes: dict[str, str] = {}
    project: bool = True
    editable: bool = True
    lock: str = ""
    format: int = _FORMAT


_DECODER = msgspec.json.Decoder(InstallState)


def own_install_state(root: Path, environments: Environments) -> InstallState | None:
    """The state of an environment that was made here; `None` for a stranger's, and where it can't be used.

    It is only as true as the folder that it lies in, and one that came with a clone may say anything.
    """
    if not environments.owns(root):
        return None
    try:
        install_state = _DECODER.decode(read_regular(root / STATE_FILE, most=MOST_NOTES))
    except (OSError, msgspec.MsgspecError, *UNREADABLE):
        return None
    return install_state if install_state.format == _FORMAT else None


def install_state_content(install_state: InstallState) -> bytes:
    """An install state as it is written."""
    return msgspec.json.encode(install_state) + b"\n"
