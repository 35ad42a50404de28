"""Text for display: without credentials and control characters, lists shortened.

It stands alone, for all output passes through.
"""

import re
from collections.abc import Sequence

__all__ = ["comment", "shown_argument", "shown_location", "some_of", "visible", "without_credentials"]

_USER = re.compile(r"://([^/\s?#]*)@")
# What stands between a host's colon and a `/` is a port, or else a password with a `/`, `?` or `#` in it.
_NO_PORT = re.compile(r"://(?!\[)[^\s/?#@:]*:(?!\d*(?:[^\w%@:]|\Z))\S*")
_SSH = re.compile(r"ssh\Z", re.IGNORECASE)
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://")
_HOST = r"(?:[\w.-]*|\[[0-9A-Fa-f:.]+\])(?::\d+)?"
_LOCATION = re.compile(rf"(?:[^\s/?#@]*@)?({_HOST}(?:/[^\s?#@]*)?)(?:\?[^\s@]*)?")


def some_of(names: Sequence[str], most: int) -> str:
    """The first names, at most so many, and how many more there are."""
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more} more" if more > 0 else "")


def without_credentials(text: str) -> str:
    """A text whose addresses may be shown and written down: user names and passwords are left out.

    Where the parts of an address can't be told apart, nothing but its scheme is. With `ssh` the user's name
    stays: there it is a part of the address, and no secret. Takes time in proportion to the text, whatever
    that holds.
    """
    return _NO_PORT.sub("://…", _USER.sub(_user_kept, text)) if "@" in text else text


def _user_kept(match: re.Match[str]) -> str:
    user = match[1].partition(":")[0]
    before = match.string[max(0, match.start() - 3) : match.start()]
    return f"://{user}@" if user and _SSH.search(before) else "://"


def shown_location(address: str) -> str:
    """The address of a server or of a database as it may be shown: without a user, a password and a query.

    Of one whose parts can't be told apart for certain only the scheme is shown.
    """
    scheme = _SCHEME.match(address)
    if scheme is None:
        return "…"
    if scheme.group().lower().startswith("sqlite"):  # a file's path
        return address.partition("?")[0]
    found = _LOCATION.fullmatch(address, scheme.end())
    return scheme.group() + (found[1] if found else "…")


def shown_argument(word: str) -> str:
    """A word of a command line as it may be written down: of an address in it what `shown_location` shows."""
    scheme = _SCHEME.search(word)
    return word[: scheme.start()] + shown_location(word[scheme.start() :]) if scheme else word


def visible(text: str) -> str:
    r"""A text as one line that says what it holds, in place of doing it.

    All that is not printable is written as an escape, such as `\x1b` or `\u202e`: control characters (C0
    and C1, line breaks among them), marks that turn the direction of writing around, surrogates, and spaces
    that look like none. So a name can't forge a line, move the cursor or colour a terminal.
    """
    return text if text.isprintable() else "".join(map(_escaped, text))


def comment(text: str, mark: str = "#") -> str:
    """A line that says something to people in a file for programs: whatever it holds, it stays one line."""
    return f"{mark} {visible(text)}"


def _escaped(character: str) -> str:
    if character.isprintable():
        return character
    code = ord(character)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
