"""User names and passwords for sources; they are sent to the place they belong to, and never shown.

For a source, in this order: what its address holds, then the variables `RABBET_SOURCE_<NAME>_USERNAME` and
`RABBET_SOURCE_<NAME>_PASSWORD` (its name in capitals, `_` for all but letters and digits), then the user's
netrc file, which is also asked for any other host.
"""

import netrc
import os
import re
from collections.abc import Iterable, Mapping
from pathlib import Path
from urllib.parse import unquote, urlsplit

from rabbet.core.model.declaration import SourceEntry
from rabbet.errors import NotUnderstood

__all__ = ["Credentials"]


class Credentials:
    """Which `user:password` goes to which origin (scheme, host and port)."""

    def __init__(self, entries: Iterable[SourceEntry], environ: Mapping[str, str], netrc_file: Path) -> None:
        self._by_origin: dict[str, str] = {}
        self._netrc_file = netrc_file
        self._netrc: netrc.netrc | None = None
        for entry in entries:
            found = _in_address(entry.url) or _in_variables(entry.name, environ)
            if found:
                self._by_origin.setdefault(_origin(entry.url), found)

    def for_address(self, address: str) -> str | None:
        """What to send there, if anything. Raises `NotUnderstood` for a netrc file that can't be read."""
        known = _in_address(address) or self._by_origin.get(_origin(address))
        if known:
            return known
        entry = self._hosts().authenticators(urlsplit(address).hostname or "")
        return f"{entry[0] or entry[1]}:{entry[2]}" if entry else None

    def _hosts(self) -> netrc.netrc:
        """The netrc file, read when it is first asked; none is as good as an empty one."""
        if self._netrc is None:
            try:
                self._netrc = netrc.netrc(self._netrc_file)
            except FileNotFoundError:
                self._netrc = netrc.netrc(os.devnull)
            except (netrc.NetrcParseError, OSError, UnicodeDecodeError) as error:
                said = error.msg if isinstance(error, netrc.NetrcParseError) else type(error).__name__
                raise NotUnderstood(f"{self._netrc_file} can't be read", because=[said]) from error
        return self._netrc


def _origin(address: str) -> str:
    parts = urlsplit(address)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}".lower()


def _in_address(address: str) -> str:
    return unquote(urlsplit(address).netloc.rpartition("@")[0])


def _in_variables(name: str, environ: Mapping[str, str]) -> str:
    prefix = "RABBET_SOURCE_" + re.sub(r"[^A-Z0-9]", "_", name.upper())
    user, password = environ.get(f"{prefix}_USERNAME", ""), environ.get(f"{prefix}_PASSWORD", "")
    return f"{user}:{password}" if user or password else ""
