"""The names of the store's parts, and the folder for state."""

from collections.abc import Mapping
from pathlib import Path

from rabbet.disk.named import path_named

__all__ = ["LAYOUT", "OBTAINED", "PACKED", "UNPACKED", "data_folder", "state_folder"]

# The folder of the store that holds everything in its present form.
# 1: first form. 2: with digests of everything that is kept; files are read-only. 3: the time of an unpacked
# file follows from its content.
LAYOUT = "layout-3"
PACKED = ".sqlite"  # the ending of files that hold many contents (`pack.py`)
UNPACKED = "unpacked"  # what wheels hold
OBTAINED = "obtained"  # runtimes that were obtained


def data_folder(environ: Mapping[str, str], seen_from: Path) -> Path:
    """The folder for projects that lie in no other: `RABBET_DATA`, else the platform's folder for data."""
    named = environ.get("RABBET_DATA")
    if named:
        return path_named(named, seen_from)
    import platformdirs  # here: most projects have a folder of their own

    return platformdirs.user_data_path("rabbet")


def state_folder(environ: Mapping[str, str], seen_from: Path | None = None) -> Path:
    """The folder for what can't be made again: `RABBET_STATE`, else the platform's folder for state."""
    named = environ.get("RABBET_STATE")
    if named:
        return path_named(named, seen_from or Path.cwd())
    import platformdirs  # here: it takes a while to import

    return platformdirs.user_state_path("rabbet")
