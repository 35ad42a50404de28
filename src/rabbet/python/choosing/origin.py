"""From which of the locked files a library was installed, and whether that is the one that is wanted."""

from rabbet.core.drift.expected import VersionOnly
from rabbet.core.model.finding import Kind
from rabbet.core.model.inventory import Installed
from rabbet.core.model.lock import LockedArchive, LockedWheel, ToInstall, Unbuilt
from rabbet.python.choosing.file_name import BadFileName, parse_wheel_name

__all__ = ["MODULES", "WHOLE_FOLDER", "other_file", "other_origin", "same_build", "wheel_taken"]

MODULES = "-"  # what parts the digest of an editable build from that of its modules' names
WHOLE_FOLDER = "all"  # in its place, for a wheel that leads to a folder and so to whatever is in it


def other_origin(item: ToInstall | VersionOnly, installed: Installed) -> Kind | None:
    """In what the origin of something that Rabbet installed differs from the locked one, if it does."""
    if isinstance(item, VersionOnly):
        return None
    if isinstance(item, Unbuilt):
        if not item.digest or same_build(item.digest, installed.build):
            return None  # it is the same, or nobody looked at what it is built from here
        return Kind.BUILD if installed.build else Kind.ORIGIN
    if installed.wheel_sha256 == item.artifact.sha256:
        return None
    return (
        Kind.BUILD if installed.wheel_sha256 in {file.sha256 for file in item.locked.wheels} else Kind.ORIGIN
    )


def same_build(wanted: str, installed: str) -> bool:
    """Whether what is installed is what a build would give.

    An editable wheel that leads to a whole folder serves, whatever modules there are.
    """
    source, _, modules = installed.partition(MODULES)
    return wanted == installed or (modules == WHOLE_FOLDER and wanted.partition(MODULES)[0] == source)


def other_file(item: ToInstall | VersionOnly, installed: Installed) -> Kind | None:
    """The same of what another installer installed, by the tags that its wheel had; they may not be there."""
    if isinstance(item, Unbuilt | VersionOnly) or not installed.tags:
        return None
    taken = wheel_taken(item, installed)
    if taken is None:
        return Kind.ORIGIN
    return None if taken == item.artifact else Kind.BUILD


def wheel_taken(item: ToInstall, installed: Installed) -> LockedWheel | LockedArchive | None:
    """The locked wheel that has the tags of what is installed; the wanted one before others."""
    wanted = () if isinstance(item, Unbuilt) else (item.artifact,)
    return next((wheel for wheel in (*wanted, *item.locked.wheels) if _has_tags(wheel, installed.tags)), None)


def _has_tags(wheel: LockedWheel | LockedArchive, tags: frozenset[str]) -> bool:
    """Whether a wheel's name has one of the tags (PEP 425): some builders leave out others in `WHEEL`."""
    try:
        return bool(tags.intersection(parse_wheel_name(wheel.filename).tags or ()))
    except BadFileName:
        return False
