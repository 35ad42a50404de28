"""Numbers, days and sizes as people read them."""

from datetime import datetime

__all__ = ["count", "day", "size_text"]

_UNITS = ("B", "kB", "MB", "GB")


def count(number: int, noun: str) -> str:
    """Such as `1 library` or `3 libraries`."""
    plural = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{number} {noun if number == 1 else plural}"


def day(seconds: float) -> str:
    """The day of a time since the epoch, as the reader's calendar has it; a time may be anybody's word."""
    try:
        return f"{datetime.fromtimestamp(seconds):%Y-%m-%d}"  # noqa: DTZ006 - the reader's own day
    except (ValueError, OverflowError, OSError):
        return "an unknown day"


def size_text(size: float) -> str:
    """Bytes as people read them, such as `1.2 MB`."""
    unit = 0
    while size >= 1000 and unit < len(_UNITS) - 1:
        size, unit = size / 1000, unit + 1
    return f"{size:.0f} {_UNITS[unit]}" if unit == 0 or size >= 10 else f"{size:.1f} {_UNITS[unit]}"
