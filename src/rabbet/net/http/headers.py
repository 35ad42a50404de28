"""Headers of answers: sizes, and how long a listing is fresh."""

import re
from collections.abc import Mapping
from datetime import datetime

from rabbet.core.limits import LONGEST_FRESH, MOST_ANNOUNCED, MOST_UNANNOUNCED

__all__ = ["announced_size", "fresh_seconds", "may_be_kept", "moment_in", "most_of", "number_in"]


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


_MAX_AGE = re.compile(r'(?:^|[,\s])max-age="?(\d{1,9})')


def may_be_kept(headers: Mapping[str, str]) -> bool:
    """Whether an answer may be kept at all."""
    return "no-store" not in headers.get("cache-control", "").lower()


def fresh_seconds(headers: Mapping[str, str]) -> int:
    """For how many seconds an answer may be used without asking again; 0 for not at all.

    What stood in other caches before (`Age`) counts. An `immutable` answer is not asked for again while it is
    fresh, which is how all are treated here. Nothing is guessed for an answer that says nothing.
    """
    control = headers.get("cache-control", "").lower()
    if "no-cache" in control or "no-store" in control:
        return 0
    match = _MAX_AGE.search(control)
    lifetime = float(match[1]) if match else _until_expiry(headers)
    age = number_in(headers.get("age", "")) or 0
    return max(0, min(int(lifetime) - age, LONGEST_FRESH))


def _until_expiry(headers: Mapping[str, str]) -> float:
    """The seconds from the answer's own `Date` to `Expires`: two clocks need not agree."""
    date, expires = moment_in(headers.get("date", "")), moment_in(headers.get("expires", ""))
    return (expires - date).total_seconds() if date and expires else 0.0
