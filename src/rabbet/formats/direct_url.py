"""`direct_url.json`: where a library came from, if no source lists it (PEP 610)."""

import json

from rabbet.core.limits import UNREADABLE
from rabbet.formats.address import parse_address

__all__ = ["read_direct_url"]


def read_direct_url(text: str) -> str:
    """The address without credentials, with the commit behind it where it is one.

    Raises `ValueError` for what is no such file.
    """
    try:
        told = json.loads(text)
        address = parse_address(told["url"]).text
        commit = told.get("vcs_info", {}).get("commit_id", "")
    except (KeyError, TypeError, AttributeError, *UNREADABLE) as error:
        raise ValueError(f"it tells no address: {type(error).__name__}") from error
    return f"{address} at {commit}" if isinstance(commit, str) and commit else address
