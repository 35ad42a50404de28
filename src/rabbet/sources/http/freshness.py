"""How long an answer is fresh: how HTTP tells it (RFC 9111, sections 4.2 and 5.2; RFC 8246)."""

import re
from collections.abc import Mapping
from datetime import datetime

from rabbet.core.limits import LONGEST_FRESH

__all__ = ["fresh_seconds", "may_be_kept", "moment_in"]

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
    age = headers.get("age", "")
    old = int(age) if len(age) < 10 and age.isdecimal() else 0
    return max(0, min(int(lifetime) - old, LONGEST_FRESH))


def _until_expiry(headers: Mapping[str, str]) -> float:
    """What `Expires` says against the answer's own `Date`: two clocks need not agree."""
    date, expires = moment_in(headers.get("date", "")), moment_in(headers.get("expires", ""))
    return (expires - date).total_seconds() if date and expires else 0.0


def moment_in(text: str) -> datetime | None:
    """The moment that a header names (RFC 9110, section 5.6.7), if it is one."""
    if not text:
        return None
    from email.utils import parsedate_to_datetime  # here: it takes long to import, and few answers need it

    try:
        moment = parsedate_to_datetime(text[:60])
    except (ValueError, OverflowError, IndexError):
        return None
    return moment if moment.tzinfo is not None else None
