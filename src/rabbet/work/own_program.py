"""The one place that starts Rabbet in another process."""

import sys

__all__ = ["own_program"]


def own_program(*arguments: str) -> list[str]:
    """The command that runs this Rabbet, by this interpreter and from the same folders, wherever it starts.

    No module of the folder where it runs, or that a variable names, takes the place of one that it needs.
    """
    start = f"import sys; sys.path[:] = {sys.path!r}; from rabbet.__main__ import program; program()"
    return [sys.executable, "-I", "-c", start, *arguments]
