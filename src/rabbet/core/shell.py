"""Words of a command line that mean the same in bash, zsh and fish."""

import re
from collections.abc import Iterable

__all__ = ["in_place", "joined_words", "quoted", "variant_option"]

# A leading `=` or `~` means something to zsh, and `%` to some fish.
_PLAIN = re.compile(r"[A-Za-z0-9_./:@+,-][A-Za-z0-9_./:@%+=,-]*\Z")
# Commands on a project, as sentences and errors name them; but for `lend`, which is told of libraries.
_ON_PROJECT = re.compile(
    r"\brabbet (?:declare|retract|adopt|resolve|explain|lookup|compare|recreate|run|enter|drift|census"
    r"|culprit|prove|imports|rules|status|past|carry|export)\b(?!\S)(?! --in )"
)
_SPECIAL = re.compile(r"([\\'])")


def quoted(word: str) -> str:
    """A word as it is written on a command line.

    Between single quotes all three shells take everything as it is, but for fish a backslash; so backslashes
    and single quotes stand outside, behind a backslash each.
    """
    if _PLAIN.match(word):
        return word
    parts = [f"\\{part}" if _SPECIAL.match(part) else f"'{part}'" for part in _SPECIAL.split(word) if part]
    return "".join(parts) or "''"


def joined_words(words: Iterable[str]) -> str:
    """Words as a command line."""
    return " ".join(quoted(word) for word in words)


def variant_option(variant: str | None) -> str:
    """The option that names a variant, to be put behind a command; empty for the project itself."""
    return f" --variant {quoted(variant)}" if variant else ""


def in_place(text: str, option: str) -> str:
    """A text whose commands are given the option that names the place they are meant for."""
    return _ON_PROJECT.sub(lambda found: found[0] + option, text)
