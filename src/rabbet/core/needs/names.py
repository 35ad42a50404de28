"""Names of libraries, extras and groups, apart from needs: many a light command needs no more than names."""

import re
from typing import TYPE_CHECKING, cast

from rabbet.core.limits import LONGEST_LINE

if TYPE_CHECKING:
    from packaging.utils import NormalizedName

__all__ = ["is_name", "library_name"]

_NAME = re.compile(r"[A-Za-z0-9]([A-Za-z0-9._-]*[A-Za-z0-9])?\Z")
_SEPARATORS = re.compile(r"[-_.]+")


def is_name(text: str) -> bool:
    """Whether a library can have this name (PEP 508)."""
    return len(text) <= LONGEST_LINE and _NAME.match(text) is not None


def library_name(text: str) -> "NormalizedName":
    """The one form of a library's, an extra's or a group's name (PEP 503, 685, 735)."""
    return cast("NormalizedName", _SEPARATORS.sub("-", text).lower())
