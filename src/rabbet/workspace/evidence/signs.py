"""A quick look at a folder for work that was there before Rabbet: enough to offer `adopt`, no more."""

from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from rabbet.core.limits import MOST_NAMES

__all__ = ["LISTS", "signs_of_work"]

LISTS = ("*requirements*.txt", "*requirements*.in", "requirements/*.txt", "requirements/*.in")
_NO_CODE = ("setup.py",)  # files of Python that hold nothing to adopt


def signs_of_work(folder: Path) -> list[str]:
    """What `adopt` would look at in this folder itself: lists, environments, files of Python."""
    try:
        return list(_signs(folder))
    except OSError:  # nothing is offered for a folder that can't be read
        return []


def _signs(folder: Path) -> Iterator[str]:
    yield from sorted({str(path.relative_to(folder)) for pattern in LISTS for path in folder.glob(pattern)})
    for configuration in sorted(folder.glob("*/pyvenv.cfg"))[:1]:
        yield f"an environment in {configuration.parent.name}"
    for path in islice(folder.glob("*.py"), MOST_NAMES):
        if path.name not in _NO_CODE:
            yield "code"
            return
