"""Keeping secrets out of what is shown and written down; it stands alone, for all output passes through."""

import re

__all__ = ["without_credentials"]

_USER = re.compile(r"([a-z][a-z0-9+.-]*)://([^/\s?#]*)@", re.IGNORECASE)


def without_credentials(text: str) -> str:
    """A text whose addresses may be shown and written down: user names and passwords are left out.

    With `ssh` the user's name stays: there it is a part of the address, and no secret.
    """
    return _USER.sub(_user_kept, text)


def _user_kept(match: re.Match[str]) -> str:
    scheme, user = match[1], match[2].partition(":")[0]
    return f"{scheme}://{user}@" if scheme.endswith("ssh") and user else f"{scheme}://"
