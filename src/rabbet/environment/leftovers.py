"""What a killed run left beside an environment that it was making."""

from pathlib import Path

__all__ = ["leftovers", "new_folder_beside"]


def leftovers(root: Path) -> list[Path]:
    """Folders beside an environment in which one was being made; only who holds the claim may remove them."""
    return sorted(root.parent.glob(f"{root.name}.partial-*"))


def new_folder_beside(root: Path) -> Path:
    """Make such a folder: on the same file system, so that what is in it can take the environment's place."""
    import tempfile  # here: looking for leftovers is a part of the lightest runs

    return Path(tempfile.mkdtemp(dir=root.parent, prefix=f"{root.name}.partial-"))
