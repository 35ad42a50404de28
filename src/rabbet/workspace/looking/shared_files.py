"""Files that an environment shares with the store as hard links: while the store's are sound, these are."""

from collections.abc import Iterator
from pathlib import Path

from rabbet.disk.file_states import inodes_below
from rabbet.python.environment.place.install_state import own_install_state
from rabbet.store.layout import UNPACKED
from rabbet.store.trees import is_sound_tree
from rabbet.workspace.machine import Machine

__all__ = ["are_sound_in_store"]


def are_sound_in_store(root: Path, inodes: frozenset[int], machine: Machine) -> bool:
    """Whether all these inodes of an environment's files are in sound trees of its libraries.

    Raises `OSError`.
    """
    if root.stat().st_dev != machine.store_folder.stat().st_dev:
        return False  # inodes of two devices have nothing to do with each other
    left, states = set(inodes), machine.memory("states")
    for key, entry in _trees(root, machine):
        if left and is_sound_tree(entry, key, states):
            left -= inodes_below(f"{entry}/tree")
    return not left


def _trees(root: Path, machine: Machine) -> Iterator[tuple[str, str]]:
    """The trees of an environment's wheels and of their compiled modules, with the keys of their states."""
    made = own_install_state(root, machine.environments())
    for origin in made.libraries.values() if made else ():
        unpacked = machine.store_folder / UNPACKED / origin.wheel
        if (unpacked / "tree").is_dir():
            yield origin.wheel, str(unpacked)
            for folder in unpacked.iterdir():
                if folder.name != "tree" and (folder / "tree").is_dir():
                    yield f"{origin.wheel}-{folder.name}", str(folder)
