"""What stands in headers: numbers and moments (RFC 9110, sections 5.6.7 and 8.6)."""

from collections.abc import Mapping
from datetime import datetime

from rabbet.core.limits import MOST_ANNOUNCED, MOST_UNANNOUNCED

__all__ = ["announced_size", "moment_in", "most_of", "number_in"]

_MOST_DIGITS = 19


def number_in(text: str) -> int | None:
    """The whole number that a header gives; `None` where it gives none, or one beyond all reason."""
    return int(text) if len(text) <= _MOST_DIGITS and text.isdecimal() else None


def announced_size(headers: Mapping[str, str]) -> int | None:
    """How many bytes an answer's body has, if that is told."""
    return number_in(headers.get("content-length", ""))


def most_of(announced: int | None) -> int:
    """How many bytes of a file are read at most, by the size that was announced."""
    return min(announced, MOST_ANNOUNCED) if announced else MOST_UNANNOUNCED


def moment_in(text: str) -> datetime | None:
    """The moment that a header names, if it is one."""
    if not text:
        return None
    from email.utils import parsedate_to_datetime  # here: it takes long to import, and few answers need it

    try:
        moment = parsedate_to_datetime(text[:60])
    except (ValueError, OverflowError, IndexError):
        return None
    return moment if moment.tzinfo is not None else None
