"""`rabbet.preferred.toml`: versions that the next resolving prefers, beside the declaration."""

from collections.abc import Mapping

from packaging.utils import NormalizedName
from packaging.version import Version

from rabbet.core.needs.need import is_name, library_name
from rabbet.errors import NotUnderstood
from rabbet.formats.toml import parse_content

__all__ = ["read_preferred", "write_preferred"]

_FILE = "rabbet.preferred.toml"
_HEAD = """\
# Versions that `rabbet resolve` prefers to all others, as far as everything that is required allows them.
# It removes this file once they are locked.

[preferred]
"""


def read_preferred(text: str) -> Mapping[NormalizedName, Version]:
    """The versions by name. Raises `NotUnderstood`."""
    try:
        table = parse_content(text).get("preferred")
    except ValueError as error:
        raise NotUnderstood(f"{_FILE} can't be read", because=[str(error)]) from error
    if not isinstance(table, dict) or not all(isinstance(version, str) for version in table.values()):
        raise NotUnderstood(f"{_FILE} has no table [preferred] of names and versions")
    found = {}
    for name, version in table.items():
        try:
            if is_name(name):
                found[library_name(name)] = Version(version)
        except ValueError as error:
            because = [f"{name}: '{version[:60]}' is not a version"]
            raise NotUnderstood(f"{_FILE} can't be used", because=because) from error
    return found


def write_preferred(versions: Mapping[NormalizedName, Version]) -> str:
    """The file's text, sorted by name."""
    return _HEAD + "".join(f'{name} = "{version}"\n' for name, version in sorted(versions.items()))
