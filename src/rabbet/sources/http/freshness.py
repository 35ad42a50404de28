"""How long an answer is fresh: how HTTP tells it (RFC 9111, sections 4.2 and 5.2; RFC 8246)."""

import re
from collections.abc import Mapping

from rabbet.core.limits import LONGEST_FRESH
from rabbet.sources.http.headers import moment_in, number_in

__all__ = ["fresh_seconds", "may_be_kept"]

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
    """What `Expires` says against the answer's own `Date`: two clocks need not agree."""
    date, expires = moment_in(headers.get("date", "")), moment_in(headers.get("expires", ""))
    return (expires - date).total_seconds() if date and expires else 0.0
