"""The program begins here, as `rabbet` and as `python -m rabbet`.

It imports next to nothing by itself: an interruption is answered like any other, even while the rest loads.
"""

import os
import sys

__all__ = ["program"]


def program() -> None:
    """Load and run the program, which ends the process."""
    try:
        _leave_out_projects()
        from rabbet.cli.main import program as loaded
    except KeyboardInterrupt:
        sys.stderr.write("error: interrupted\n")
        os._exit(130)
    loaded()


def _leave_out_projects() -> None:
    """Take folders of projects off the path of modules, where they come before the standard library.

    The current folder is there with `python -m`, others by `PYTHONPATH`. A module of a project would be run
    in place of one of the same name that Rabbet needs.
    """
    own = _above(_above(__file__))
    end = next((number for number, place in enumerate(sys.path) if place.endswith(".zip")), 0)
    sys.path[:end] = [place for place in sys.path[:end] if place == own or not _is_in_project(place)]


def _is_in_project(folder: str) -> bool:
    """Whether a folder or one above it holds a declaration, up to the user's home."""
    if not folder.startswith("/"):
        return True
    home, folder = os.path.realpath(os.environ.get("HOME", "/")), os.path.realpath(folder)
    while folder not in (home, ""):
        if os.path.lexists(f"{folder}/pyproject.toml"):
            return True
        folder = _above(folder)
    return False


def _above(path: str) -> str:
    return path.rpartition("/")[0]


if __name__ == "__main__":
    program()
