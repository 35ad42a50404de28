"""Where the members of an archive may lie, and how the names of archives end."""

import posixpath

from rabbet.core.limits import LONGEST_LINE

__all__ = ["ARCHIVE_ENDINGS", "is_inside", "lands_outside"]

ARCHIVE_ENDINGS = (".tar.gz", ".tgz", ".tar.xz", ".tar.zst", ".zip", ".whl")  # of what can be unpacked


def lands_outside(place: str) -> bool:
    """Whether a member with this name would land outside the folder it is unpacked into, on any system.

    What no file can be called does so too.
    """
    absolute = place.startswith("/") or place[1:2] == ":"  # a drive
    unusual = "\\" in place or "\0" in place or len(place) > LONGEST_LINE
    return absolute or unusual or ".." in place.split("/")


def is_inside(place: str) -> bool:
    """Whether a text that people wrote is the place of a file inside an archive."""
    return (
        bool(place)
        and place.isprintable()
        and not lands_outside(place)
        and posixpath.normpath(place) == place
    )
