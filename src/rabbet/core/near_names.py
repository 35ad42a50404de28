"""Suggest known names close to a mistyped one."""

from collections.abc import Iterable
from itertools import islice

from rabbet.core.limits import MOST_NAMES, MOST_NEAR

__all__ = ["near_names"]

_LONGER = 2  # characters that a name may be longer or shorter
_MOST = 3


def near_names(name: str, known: Iterable[str]) -> list[str]:
    """The nearest of the known names, the nearest first; at most three.

    Only names of about its length that share its beginning or its end are compared letter by letter: an index
    may know half a million of them.
    """
    from difflib import get_close_matches  # here: it takes long to import, and most names are known

    alike = (
        candidate
        for candidate in islice(known, MOST_NAMES)
        if abs(len(candidate) - len(name)) <= _LONGER
        and (candidate[:2] == name[:2] or candidate[-2:] == name[-2:])
        and candidate != name
    )
    return get_close_matches(name, dict.fromkeys(islice(alike, MOST_NEAR)), n=_MOST)
