"""A wheel's file name (PEP 427) → name, version and tags.

Large listings hold tens of thousands of names with few distinct tags, so tags are expanded once each; that is
why the `packaging` library's function for whole names is not used here. A test holds the two to the same
answers.
"""

import re
from functools import lru_cache

from packaging.tags import InvalidTag, parse_tag
from packaging.utils import NormalizedName, canonicalize_name
from packaging.version import InvalidVersion, Version

__all__ = ["parse_wheel_name"]

_NAME = re.compile(r"^[\w.]+\Z")


def parse_wheel_name(filename: str) -> tuple[NormalizedName, Version, frozenset[str]] | str:
    """Name, version and all compatibility tags; or, for a name that breaks the standard, what is wrong."""
    if not filename.endswith(".whl"):
        return f"'{filename}' does not end in .whl"
    parts = filename.removesuffix(".whl").split("-")
    if len(parts) not in (5, 6):
        return f"'{filename}' has {len(parts)} parts in place of 5 or 6"
    if "__" in parts[0] or not _NAME.match(parts[0]):
        return f"'{filename}' begins with no name"
    if len(parts) == 6 and not parts[2][:1].isdigit():
        return f"'{filename}' has a build number that begins with no digit"
    try:
        version = Version(parts[1])
        return canonicalize_name(parts[0]), version, _tags("-".join(parts[-3:]))
    except InvalidVersion:
        return f"'{filename}' has no version"
    except InvalidTag as error:
        return f"'{filename}': {error}"


@lru_cache(maxsize=8192)
def _tags(text: str) -> frozenset[str]:
    return frozenset(str(tag) for tag in parse_tag(text))
