"""User names and passwords for sources; they are sent to the place they belong to, and never shown.

For a source, in this order: what its address holds, then the variables `RABBET_SOURCE_<NAME>_USERNAME` and
`RABBET_SOURCE_<NAME>_PASSWORD` (its name in capitals, `_` for all but letters and digits), then the user's
netrc file. That is also asked for other hosts, which a page named: there only an entry of that host's own
counts, and only over https.
"""

import re
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from rabbet.core.limits import MOST_TEXT_FILE
from rabbet.core.model.declaration import SourceEntry
from rabbet.disk.regular_file import read_regular
from rabbet.errors import NotUnderstood
from rabbet.formats.address import Address, NotAnAddress, is_address, parse_address

if TYPE_CHECKING:
    from netrc import netrc

__all__ = ["Credentials"]


class Credentials:
    """Which `user:password` goes to which origin (scheme, host and port).

    `entries` are the sources that the user named, `addresses` further ones, of single files.
    """

    def __init__(
        self,
        entries: Iterable[SourceEntry],
        environ: Mapping[str, str],
        netrc_file: Path,
        *,
        addresses: Iterable[str] = (),
    ) -> None:
        self._by_origin: dict[str, str] = {}  # of all origins that the user named; empty where there are none
        self._netrc_file = netrc_file
        self._netrc: netrc | None = None
        self._looked = False
        for entry in entries:
            self._name(entry.url, _in_variables(entry.name, environ))
        for address in addresses:
            self._name(address, "")

    def _name(self, text: str, otherwise: str) -> None:
        """Note an address that the user named."""
        if not is_address(text):
            return  # a folder's path
        try:
            address = parse_address(text)
        except NotAnAddress:
            return  # whoever opens it tells
        known = self._by_origin.get(address.origin, "")
        self._by_origin[address.origin] = known or address.credentials or otherwise

    def for_address(self, address: Address) -> str | None:
        """The credentials for an address, if any. Raises `NotUnderstood` for a broken netrc file."""
        known = self._by_origin.get(address.origin)
        if known:
            return known
        named, hosts = known is not None, self._hosts()
        if hosts is None or not (named or (address.scheme == "https" and address.hostname in hosts.hosts)):
            return None
        entry = hosts.authenticators(address.hostname)
        return f"{entry[0] or entry[1]}:{entry[2]}" if entry else None

    def _hosts(self) -> "netrc | None":
        """The netrc file's hosts, read on first use; `None` without such a file."""
        if self._netrc is None and not self._looked:
            self._looked = True
            try:
                read_regular(self._netrc_file, most=MOST_TEXT_FILE)  # the library would wait for a pipe
            except FileNotFoundError:
                return None
            except OSError as error:
                raise self._unreadable(type(error).__name__) from error
            from netrc import NetrcParseError, netrc  # here: few people have such a file

            try:
                self._netrc = netrc(self._netrc_file)
            except (NetrcParseError, OSError, ValueError) as error:
                said = error.msg if isinstance(error, NetrcParseError) else type(error).__name__
                raise self._unreadable(said) from error
        return self._netrc

    def _unreadable(self, why: str) -> NotUnderstood:
        self._looked = False  # whoever asks next is told as well
        return NotUnderstood(f"{self._netrc_file} can't be read", because=[why])


def _in_variables(name: str, environ: Mapping[str, str]) -> str:
    prefix = "RABBET_SOURCE_" + re.sub(r"[^A-Z0-9]", "_", name.upper())
    user, password = environ.get(f"{prefix}_USERNAME", ""), environ.get(f"{prefix}_PASSWORD", "")
    return f"{user}:{password}" if user or password else ""
