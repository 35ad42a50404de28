"""Tags of machines, such as `team=extraction`: given by who sends, and chosen by who looks."""

import re
from collections.abc import Iterable, Mapping
from typing import TypeAlias

__all__ = ["MOST_TAGS", "Tags", "Wanted", "fits", "tag_in", "tags_text", "wanted_of"]

Tags: TypeAlias = Mapping[str, str]
"""The value of each tag by its name."""

Wanted: TypeAlias = Mapping[str, frozenset[str]]
"""The values that a tag may have, by its name."""

MOST_TAGS = 20  # of a machine
_TAG = re.compile(r"([a-z][a-z0-9-]{0,39})=([A-Za-z0-9](?:[A-Za-z0-9 @._+-]{0,58}[A-Za-z0-9])?)\Z")


def tag_in(text: str) -> tuple[str, str]:
    """The name and the value of `NAME=VALUE`. Raises `ValueError` for what is no tag."""
    found = _TAG.match(text)
    if found is None:
        raise ValueError(
            f"'{text[:60]}' is not a tag, such as team=extraction: a name of small letters, digits and '-';"
            " a value of letters, digits, spaces and '@._+-'"
        )
    return found[1], found[2]


def wanted_of(texts: Iterable[str]) -> Wanted:
    """What is wanted of tags: of those with one name any value will do. Raises `ValueError`."""
    found: dict[str, frozenset[str]] = {}
    for name, value in map(tag_in, texts):
        found[name] = found.get(name, frozenset()) | {value}
    return found


def fits(tags: Tags, wanted: Wanted) -> bool:
    """Whether a machine has a wanted value of each wanted tag."""
    return all(tags.get(name) in values for name, values in wanted.items())


def tags_text(tags: Tags) -> str:
    """Such as `role=ci, team=extraction`."""
    return ", ".join(f"{name}={value}" for name, value in sorted(tags.items()))
