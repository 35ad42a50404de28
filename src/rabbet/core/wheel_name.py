"""A wheel's file name (PEP 427) → name, version and tags."""

from packaging.utils import InvalidWheelFilename, NormalizedName, parse_wheel_filename
from packaging.version import Version

__all__ = ["parse_wheel_name"]


def parse_wheel_name(filename: str) -> tuple[NormalizedName, Version, frozenset[str]] | str:
    """Name, version and all compatibility tags; or, for a name that breaks the standard, what is wrong."""
    try:
        name, version, _, tags = parse_wheel_filename(filename)
    except InvalidWheelFilename as error:
        return str(error)
    return name, version, frozenset(str(tag) for tag in tags)
