"""Sanitise text for display: no credentials, no control characters.

It stands alone, for all output passes through.
"""

import re

__all__ = ["visible", "without_credentials"]

_USER = re.compile(r"://([^/\s?#]*)@")
_SSH = re.compile(r"ssh\Z", re.IGNORECASE)


def without_credentials(text: str) -> str:
    """A text whose addresses may be shown and written down: user names and passwords are left out.

    With `ssh` the user's name stays: there it is a part of the address, and no secret. Takes time in
    proportion to the text, whatever that holds.
    """
    return _USER.sub(_user_kept, text) if "@" in text else text


def _user_kept(match: re.Match[str]) -> str:
    user = match[1].partition(":")[0]
    before = match.string[max(0, match.start() - 3) : match.start()]
    return f"://{user}@" if user and _SSH.search(before) else "://"


def visible(text: str) -> str:
    r"""A text as one line that says what it holds, in place of doing it.

    All that is not printable is written as an escape, such as `\x1b` or `\u202e`: control characters (C0
    and C1, line breaks among them), marks that turn the direction of writing around, surrogates, and spaces
    that look like none. So a name can't forge a line, move the cursor or colour a terminal.
    """
    return text if text.isprintable() else "".join(map(_escaped, text))


def _escaped(character: str) -> str:
    if character.isprintable():
        return character
    code = ord(character)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
