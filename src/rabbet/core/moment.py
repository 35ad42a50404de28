"""Dates and times as people write them."""

from datetime import UTC, datetime, time

__all__ = ["is_moment", "moment_in"]


def moment_in(text: str, *, end: bool = True) -> datetime:
    """The end of a day (ISO 8601), or its beginning, or a moment with its time; without a zone it is UTC.

    Raises `ValueError`.
    """
    found = datetime.fromisoformat(text)
    if "T" not in text and " " not in text:
        found = datetime.combine(found, time.max if end else time.min)
    return found if found.tzinfo else found.replace(tzinfo=UTC)


def is_moment(text: str) -> bool:
    """Whether a text is one."""
    try:
        moment_in(text)
    except (ValueError, OverflowError):
        return False
    return True
